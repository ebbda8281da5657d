import json

import numpy as np
import pytest
import soundfile
from numpy.testing import assert_allclose
from scipy import signal

from dolce.__main__ import main

RATE = 48_000


@pytest.fixture
def sweep(tmp_path):
    path = tmp_path / "sweep.wav"
    assert main(["sweep", str(path), "--seconds", "3"]) == 0
    return path


def table(path):
    data = np.genfromtxt(path, delimiter=",", names=True)
    assert data.dtype.names == ("frequency_hz", "level_db", "phase_deg")
    return data


def test_sweep_has_the_rate_length_and_level_that_were_asked_for(sweep):
    samples, rate = soundfile.read(sweep)
    assert (rate, samples.size) == (RATE, 3 * RATE)
    assert np.abs(samples).max() == pytest.approx(10 ** (-12 / 20), abs=1e-3)


def test_response_of_a_known_system(sweep, tmp_path, capsys):
    # A Butterworth high-pass of a reference library, 240 samples of delay, inverted: all known exactly.
    samples, _ = soundfile.read(sweep)
    sos = signal.butter(2, 60, "high", fs=RATE, output="sos")
    recording = -0.4 * signal.sosfilt(sos, np.concatenate([np.zeros(240), samples, np.zeros(RATE)]))
    soundfile.write(tmp_path / "r.wav", recording, RATE, subtype="FLOAT")
    assert main(["response", str(tmp_path / "r.wav"), "--stimulus", str(sweep), "--out", str(tmp_path / "r.csv"),
                 "--ir", str(tmp_path / "ir.wav")]) == 0
    report = json.loads(capsys.readouterr().out)
    assert report["arrival_s"] == pytest.approx(0.005, abs=2e-6)
    assert (report["polarity"], report["clipped"], report["warnings"]) == ("inverted", False, [])
    data = table(tmp_path / "r.csv")
    inside = (data["frequency_hz"] >= 20) & (data["frequency_hz"] <= 20_000)
    expected = -0.4 * signal.sosfreqz(sos, worN=data["frequency_hz"][inside], fs=RATE)[1]
    assert_allclose(data["level_db"][inside], 20 * np.log10(np.abs(expected)), atol=0.01)
    turned = np.degrees(np.angle(np.exp(1j * np.radians(data["phase_deg"][inside])) / (expected / np.abs(expected))))
    assert np.abs(turned).max() < 1
    assert soundfile.info(tmp_path / "ir.wav").subtype == "FLOAT"


def responses(tmp_path, count=3):
    frequency = np.geomspace(15, 21_000, 800)
    paths = []
    for k in range(count):
        level = 8 * np.exp(-((np.log2(frequency / (60 + k)) / 0.25) ** 2)) - 20 * np.exp(
            -((np.log2(frequency / 200) / 0.05) ** 2))
        path = tmp_path / f"r{k}.csv"
        np.savetxt(path, np.stack([frequency, level, 0 * level], axis=1), delimiter=",",
                   header="frequency_hz,level_db,phase_deg", comments="")
        paths.append(str(path))
    return paths


def test_filters_cut_the_resonance_and_leave_the_dip(tmp_path):
    out = tmp_path / "f.json"
    assert main(["filters", *responses(tmp_path), "--weights", "2,1,1", "--bands", "5", "--fir", str(tmp_path / "fir"),
                 "--rates", "44100,48000", "--out", str(out)]) == 0
    document = json.loads(out.read_text())
    assert {"filters", "target_level_db", "headroom_db", "left_alone"} <= set(document)
    assert all(set(band) == {"type", "frequency_hz", "gain_db", "q"} for band in document["filters"])
    deepest = min(document["filters"], key=lambda band: band["gain_db"])
    assert deepest["frequency_hz"] == pytest.approx(61, abs=4)
    assert any(s["from_hz"] < 200 < s["to_hz"] and "cancellation" in s["reason"] for s in document["left_alone"])
    for rate in (44_100, 48_000):
        info = soundfile.info(tmp_path / "fir" / f"correction-{rate}.wav")
        assert (info.samplerate, info.frames, info.subtype) == (rate, rate, "FLOAT")


@pytest.mark.parametrize(("arguments", "said"), [
    (["sweep", "OUT", "--from", "500", "--to", "100"], "does not rise"),
    (["sweep", "OUT", "--rate", "x"], "invalid int"),
    (["sweep"], "required"),
    (["response", "MISSING", "--stimulus", "SWEEP", "--out", "OUT"], "No such file"),
    (["response", "TEXT", "--stimulus", "SWEEP", "--out", "OUT"], "not a WAV"),
    (["response", "SWEEP", "--stimulus", "SWEEP", "--mic-cal", "TEXT", "--out", "OUT"], "0 points"),
    (["filters", "TEXT", "--out", "OUT"], "no column"),
    (["filters", "R", "--weights", "1,2", "--out", "OUT"], "weights"),
    (["filters", "R", "--from", "500", "--to", "20", "--out", "OUT"], "upside down"),
    (["filters", "R", "--bands", "0", "--out", "OUT"], "bands"),
    (["filters", "R", "--fir", "DIR", "--rates", "5", "--out", "OUT"], "--rates"),
])
def test_wrong_input_is_one_line_and_code_2_and_nothing_is_written(arguments, said, sweep, tmp_path, capsys):
    text = tmp_path / "text.txt"
    text.write_text("not what you think\n")
    places = {"OUT": tmp_path / "out", "MISSING": tmp_path / "no.wav", "SWEEP": sweep, "TEXT": text,
              "R": responses(tmp_path, 1)[0], "DIR": tmp_path / "dir"}
    before = sorted(tmp_path.rglob("*"))
    try:
        code = main([str(places.get(a, a)) for a in arguments])
    except SystemExit as end:
        code = end.code
    printed = capsys.readouterr()
    assert code == 2
    assert printed.out == ""
    assert printed.err.count("\n") == 1
    assert said in printed.err
    assert sorted(tmp_path.rglob("*")) == before
