import json

import numpy as np
import pytest
import soundfile
from numpy.testing import assert_allclose
from scipy import signal

from dolce.__main__ import main
from dolce.cli.main import run
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.formats.response_csv import write_response

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
    assert (rate, samples.size) == (RATE, 4.5 * RATE)  # two marks of 0.25 s, half a second apart
    plain = sweep.with_name("plain.wav")
    assert main(["sweep", str(plain), "--seconds", "3", "--no-marks"]) == 0
    assert soundfile.info(plain).frames == 3 * RATE
    assert np.abs(samples).max() == pytest.approx(10 ** (-12 / 20), abs=1e-3)


def test_response_of_a_known_system(sweep, tmp_path, capsys):
    # A Butterworth high-pass of a reference library, 240 samples of delay, inverted: all known exactly.
    samples, _ = soundfile.read(sweep)
    sos = signal.butter(2, 60, "high", fs=RATE, output="sos")
    recording = -0.4 * signal.sosfilt(sos, np.concatenate([np.zeros(240), samples, np.zeros(RATE)]))
    soundfile.write(tmp_path / "r.wav", recording, RATE, subtype="FLOAT")
    assert (
        main(
            [
                "response",
                str(tmp_path / "r.wav"),
                "--stimulus",
                str(sweep),
                "--out",
                str(tmp_path / "r.csv"),
                "--ir",
                str(tmp_path / "ir.wav"),
            ]
        )
        == 0
    )
    report = json.loads(capsys.readouterr().out)
    assert report["arrival_s"] == pytest.approx(0.005, abs=2e-6)
    assert (report["polarity"], report["clipped"], report["warnings"]) == ("inverted", False, [])
    assert report["drift_ppm"] == pytest.approx(0, abs=0.05)
    data = table(tmp_path / "r.csv")
    inside = (data["frequency_hz"] >= 20) & (data["frequency_hz"] <= 20_000)
    expected = -0.4 * signal.sosfreqz(sos, worN=data["frequency_hz"][inside], fs=RATE)[1]
    assert_allclose(data["level_db"][inside], 20 * np.log10(np.abs(expected)), atol=0.01)
    turned = np.degrees(np.angle(np.exp(1j * np.radians(data["phase_deg"][inside])) / (expected / np.abs(expected))))
    assert np.abs(turned).max() < 1
    assert soundfile.info(tmp_path / "ir.wav").subtype == "FLOAT"


def test_a_recorder_of_another_clock_is_brought_back_to_the_players(sweep, tmp_path, capsys):
    samples, _ = soundfile.read(sweep)
    played = np.concatenate([np.zeros(480), samples, np.zeros(RATE)])
    # 1,000 samples more in 20,000,000: the ratio 20001/20000 of a reference library's polyphase filter, 50 ppm.
    soundfile.write(tmp_path / "r.wav", signal.resample_poly(played, 20_001, 20_000), RATE, subtype="FLOAT")
    assert main(["response", str(tmp_path / "r.wav"), "--stimulus", str(sweep), "--out", str(tmp_path / "r.csv")]) == 0
    report = json.loads(capsys.readouterr().out)
    assert report["drift_ppm"] == pytest.approx(50, abs=0.5)
    assert report["arrival_s"] == pytest.approx(0.01, abs=5e-6)
    data = table(tmp_path / "r.csv")
    inside = (data["frequency_hz"] > 30) & (data["frequency_hz"] < 10_000)
    assert_allclose(data["level_db"][inside], 0, atol=0.05)


def test_a_stimulus_without_marks_says_nothing_of_the_clock(tmp_path, capsys):
    plain = tmp_path / "plain.wav"
    assert main(["sweep", str(plain), "--seconds", "2", "--no-marks"]) == 0
    samples, _ = soundfile.read(plain)
    soundfile.write(tmp_path / "r.wav", np.concatenate([samples, np.zeros(RATE)]), RATE, subtype="FLOAT")
    assert main(["response", str(tmp_path / "r.wav"), "--stimulus", str(plain), "--out", str(tmp_path / "r.csv")]) == 0
    assert json.loads(capsys.readouterr().out)["drift_ppm"] is None


def test_bare_points_are_given_when_asked_for(sweep, tmp_path):
    samples, _ = soundfile.read(sweep)
    echo = np.concatenate([samples, np.zeros(RATE)])
    echo[4800:] += 0.9 * echo[:-4800]  # a comb with a dip every 10 Hz
    soundfile.write(tmp_path / "r.wav", echo, RATE, subtype="FLOAT")
    spans = {}
    for smoothing in ("none", "48", "3"):
        assert (
            main(
                [
                    "response",
                    str(tmp_path / "r.wav"),
                    "--stimulus",
                    str(sweep),
                    "--smoothing",
                    smoothing,
                    "--out",
                    str(tmp_path / "r.csv"),
                ]
            )
            == 0
        )
        data = table(tmp_path / "r.csv")
        high = data["level_db"][(data["frequency_hz"] > 4000) & (data["frequency_hz"] < 8000)]
        spans[smoothing] = np.ptp(high)
    assert spans["none"] > 15
    assert spans["48"] < 1  # 80 Hz hold eight dips
    assert spans["3"] < spans["48"]


def takes_of(tmp_path, lines):
    path = tmp_path / "takes.csv"
    path.write_text("channel,kind,spot,seat,file,start_s\n" + "\n".join(lines) + "\n")
    return path


def test_align_writes_what_brings_mains_together(tmp_path):
    for name, gain, late in (("L", 0.5, 300), ("R", -0.25, 348)):
        response = np.zeros(6000)
        response[late] = gain
        soundfile.write(
            tmp_path / f"{name}.wav",
            signal.sosfilt(signal.butter(2, 60, "high", fs=RATE, output="sos"), response),
            RATE,
            subtype="FLOAT",
        )
    listed = takes_of(tmp_path, ["L,main,1,sofa,L.wav,-0.001", "R,main,1,sofa,R.wav,-0.001"])
    assert main(["align", str(listed), "--out", str(tmp_path / "s.json")]) == 0
    document = json.loads((tmp_path / "s.json").read_text())
    channels = document["channels"]
    assert set(document) == {"main_seat", "channels"}  # nothing of subs where there are none
    assert channels["L"]["trim_db"] == pytest.approx(-6.02, abs=0.01)  # 20 lg 2
    assert channels["R"]["trim_db"] == 0
    assert channels["L"]["delay_s"] == pytest.approx(48 / RATE, abs=1e-6)
    assert channels["R"]["delay_s"] == 0
    assert [channels[c]["polarity_measured"] for c in "LR"] == ["normal", "inverted"]
    assert channels["R"]["polarity"] == "inverted"
    assert channels["L"]["arrival_s"] == pytest.approx(300 / RATE - 0.001, abs=2e-6)


def test_align_makes_subs_one_for_all_seats_and_joins_them_to_the_mains(tmp_path):
    """Two subs that cancel at the second seat, where one comes half a wave of 60 Hz late; and a main."""
    late = {
        ("L", "sofa"): 480,
        ("L", "desk"): 500,
        ("S1", "sofa"): 480,
        ("S1", "desk"): 480,
        ("S2", "sofa"): 480,
        ("S2", "desk"): 880,
    }
    lines = []
    for (channel, seat), at in late.items():
        response = np.zeros(RATE)
        response[at] = 0.5
        kind, cut = ("sub", "low") if channel.startswith("S") else ("main", "high")
        soundfile.write(
            tmp_path / f"{channel}{seat}.wav",
            signal.sosfilt(signal.butter(2, 150 if kind == "sub" else 40, cut, fs=RATE, output="sos"), response),
            RATE,
            subtype="FLOAT",
        )
        lines.append(f"{channel},{kind},1,{seat},{channel}{seat}.wav,0")
    lines.append("S1,sub,2,desk,S1desk.wav,0")  # where only one of them was taken
    out = tmp_path / "s.json"
    assert (
        main(
            [
                "align",
                str(takes_of(tmp_path, lines)),
                "--main-seat",
                "sofa",
                "--crossover",
                "70",
                "--max-loss",
                "4",
                "--max-delay",
                "25",
                "--weights",
                "sofa=2,desk=1",
                "--out",
                str(out),
            ]
        )
        == 0
    )
    found = json.loads(out.read_text())
    assert found["crossover"] == {
        "frequency_hz": 70,
        "high_pass": "linkwitz-riley",
        "low_pass": "linkwitz-riley",
        "slope_db_per_octave": 24,
    }
    assert found["spread_db"]["after"] < 0.5 * found["spread_db"]["before"]
    assert found["output_change_db"] > -4.1
    assert "desk" not in found["subs"]
    delays = [row["delay_s"] for row in (*found["subs"].values(), *found["channels"].values())]
    assert min(delays) == pytest.approx(0, abs=1e-6)
    assert max(delays) <= 0.025 + 1e-6
    assert max(row["gain_db"] for row in found["subs"].values()) == 0
    assert all(row["all_pass"] == [] for row in found["subs"].values())
    assert any("Left out" in message for message in found["warnings"])


@pytest.mark.parametrize(
    ("lines", "more", "message"),
    [
        (["L,main,1,a,L.wav,0", "S,sub,1,b,L.wav,0"], [], "no spot of a has takes of every main and every sub"),
        (["L,main,1,a,L.wav,0", "S,sub,1,a,L.wav,0"], ["--weights", "a=0"], "no seat has a weight"),
        (["L,main,1,a,L.wav,0", "S,sub,1,a,L.wav,0"], ["--weights", "c=1"], "'c' is no seat of the list"),
        (["L,main,1,a,L.wav,0", "S,sub,1,a,L.wav,0"], ["--weights", "a"], "is no name with a number"),
        (["L,main,1,a,L.wav,0", "S,sub,1,a,L.wav,0"], ["--crossover", "900"], "--crossover"),
        (["L,main,1,a,L.wav,0", "S,sub,1,a,L.wav,0"], ["--max-loss", "99"], "largest loss of output"),
        (["L,main,1,a,L.wav,soon"], [], "line 2: start_s 'soon' is no time"),
        (["L,horn,1,a,L.wav,0"], [], "line 2: 'horn' is no kind"),
        (["L,main,1,a,L.wav,0", "L,sub,2,a,L.wav,0"], [], "line 3: L is a main above"),
        (["L,main,1,a,L.wav,0", "L,main,1,a,L.wav,0"], [], "line 3: L at 1 is listed twice"),
        (["L,main,,a,L.wav,0"], [], "line 2: spot is empty"),
        (["S,sub,1,a,S.wav,0"], [], "no main channel is listed"),
        ([], [], "no takes are listed"),
        (["L,main,1,a,gone.wav,0"], [], "gone.wav: No such file"),
        (["L,main,1,a,text.wav,0"], [], "line 2, text.wav"),
        (["L,main,1,a,L.wav,0"], ["--main-seat", "b"], "'b' is no seat of the list"),
        (["L,main,1,a,silent.wav,0"], [], "L: one of its responses is silent"),
    ],
)
def test_lists_that_can_not_be_read_name_the_line(lines, more, message, tmp_path, capsys):
    soundfile.write(tmp_path / "L.wav", np.eye(1, 500, 200)[0], RATE)
    soundfile.write(tmp_path / "silent.wav", np.zeros(500), RATE)
    (tmp_path / "text.wav").write_text("no sound")
    assert main(["align", str(takes_of(tmp_path, lines)), *more, "--out", str(tmp_path / "s.json")]) == 2
    on_progress = capsys.readouterr().err
    assert message in on_progress
    assert on_progress.count("\n") == 1
    assert not (tmp_path / "s.json").exists()


def responses(tmp_path, count=3):
    frequency = np.geomspace(15, 21_000, 800)
    paths = []
    for k in range(count):
        level = 8 * np.exp(-((np.log2(frequency / (60 + k)) / 0.25) ** 2)) - 20 * np.exp(
            -((np.log2(frequency / 200) / 0.05) ** 2)
        )
        path = tmp_path / f"r{k}.csv"
        np.savetxt(
            path,
            np.stack([frequency, level, 0 * level], axis=1),
            delimiter=",",
            header="frequency_hz,level_db,phase_deg",
            comments="",
        )
        paths.append(str(path))
    return paths


def test_filters_cut_the_resonance_and_leave_the_dip(tmp_path):
    out = tmp_path / "f.json"
    assert (
        main(
            [
                "filters",
                *responses(tmp_path),
                "--weights",
                "2,1,1",
                "--bands",
                "5",
                "--fir",
                str(tmp_path / "fir"),
                "--rates",
                "44100,48000",
                "--out",
                str(out),
            ]
        )
        == 0
    )
    document = json.loads(out.read_text())
    assert {"filters", "target_level_db", "headroom_db", "left_alone"} <= set(document)
    assert all(set(band) == {"type", "frequency_hz", "gain_db", "q"} for band in document["filters"])
    deepest = min(document["filters"], key=lambda band: band["gain_db"])
    assert deepest["frequency_hz"] == pytest.approx(61, abs=4)
    assert any(s["from_hz"] < 200 < s["to_hz"] and "cancellation" in s["reason"] for s in document["left_alone"])
    for rate in (44_100, 48_000):
        info = soundfile.info(tmp_path / "fir" / f"correction-{rate}.wav")
        assert (info.samplerate, info.frames, info.subtype) == (rate, rate, "FLOAT")


def test_what_is_expected_of_others_stands_on_the_scatter_around_each_seat(tmp_path):
    # A cancellation at one seat that no filter fills, and spots of a seat that are alike: nothing is left to chance.
    for name, depth in (("a1", 18.0), ("a2", 18.0), ("b1", 0.0), ("b2", 0.0)):
        dip = -depth * np.exp(-((np.log2(GRID / 200) / 0.1) ** 2))
        (tmp_path / f"{name}.csv").write_bytes(write_response(GRID, dip, 0 * dip))
    widths = []
    for more in ([], ["--seats", "a,a,b,b"]):
        files = [str(tmp_path / f"{name}.csv") for name in ("a1", "a2", "b1", "b2")]
        out = tmp_path / "f.json"
        assert main(["filters", *files, *more, "--out", str(out)]) == 0
        found = json.loads(out.read_text())["expected"]
        widths.append(found["after_at_new_spots_high_db"] - found["after_at_new_spots_low_db"])
    assert widths[0] > 1
    assert widths[1] < 0.1 * widths[0]


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (["sweep", "OUT", "--from", "500", "--to", "100"], "does not rise"),
        (["sweep", "OUT", "--rate", "x"], "invalid int"),
        (["sweep"], "required"),
        (["response", "MISSING", "--stimulus", "SWEEP", "--out", "OUT"], "No such file"),
        (["response", "TEXT", "--stimulus", "SWEEP", "--out", "OUT"], "not a WAV"),
        (["response", "SWEEP", "--stimulus", "SWEEP", "--mic-cal", "TEXT", "--out", "OUT"], "0 points"),
        (["filters", "TEXT", "--out", "OUT"], "no column"),
        (["filters", "R", "--weights", "1,2", "--out", "OUT"], "weights"),
        (["filters", "R", "--seats", "front,back", "--out", "OUT"], "2 seats for 1 responses"),
        (["filters", "R", "--from", "500", "--to", "20", "--out", "OUT"], "upside down"),
        (["filters", "R", "--bands", "0", "--out", "OUT"], "bands"),
        (["filters", "R", "--fir", "DIR", "--rates", "5", "--out", "OUT"], "--rates"),
    ],
)
def test_wrong_input_is_one_line_and_code_2_and_nothing_is_written(arguments, message, sweep, tmp_path, capsys):
    text = tmp_path / "text.txt"
    text.write_text("not what you think\n")
    places = {
        "OUT": tmp_path / "out",
        "MISSING": tmp_path / "no.wav",
        "SWEEP": sweep,
        "TEXT": text,
        "R": responses(tmp_path, 1)[0],
        "DIR": tmp_path / "dir",
    }
    before = sorted(tmp_path.rglob("*"))
    try:
        code = main([str(places.get(a, a)) for a in arguments])
    except SystemExit as end:
        code = end.code
    printed = capsys.readouterr()
    assert code == 2
    assert printed.out == ""
    assert printed.err.count("\n") == 1
    assert message in printed.err
    assert sorted(tmp_path.rglob("*")) == before


@pytest.mark.parametrize(
    ("port", "message"),
    [("5061", "refuse to open port 5061"), ("10080", "refuse to open port 10080"), ("70000", "is not a port")],
)
def test_a_port_that_no_browser_opens_is_refused_at_once(port, message, capsys):
    # WHATWG, "Fetch", port blocking, from memory: 5061 is that of calls over the network (SIP).
    with pytest.raises(SystemExit) as end:
        run(["serve", "--port", port], serve=lambda **_: pytest.fail("it was begun"))
    assert end.value.code == 2
    assert message in capsys.readouterr().err


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("channel,kind,spot,seat,file\nL,main,1,a,L.wav\n", "line 1: no column start_s in the first line"),
        ("", "line 1: no column channel, kind"),
        ("\udcff", "this is not a table of columns"),
    ],
)
def test_lists_without_their_columns_say_how_they_begin(text, message, tmp_path, capsys):
    listed = tmp_path / "takes.csv"
    listed.write_bytes(text.encode("utf-8", "surrogateescape"))
    assert main(["align", str(listed), "--out", str(tmp_path / "s.json")]) == 2
    on_progress = capsys.readouterr().err
    assert message in on_progress
    assert "Begin with the line channel,kind,spot,seat,file,start_s." in on_progress
