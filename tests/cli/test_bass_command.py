"""`dolce bass`: what it writes, what it leaves out and says, what it refuses in one line."""

import json

import numpy as np
import pytest
import soundfile

from dolce.__main__ import main
from dolce.services.align import bass_from_files
from rooms import BRIEF_BASS

RATE = 8000
HEAD = "channel,kind,spot,seat,file,start_s\n"
PLACES = (("1", "desk"), ("2", "desk"), ("3", "sofa"), ("4", "sofa"))


@pytest.fixture(autouse=True)
def short_searches(monkeypatch):
    monkeypatch.setattr(bass_from_files, "SEARCH_STEPS", BRIEF_BASS)


def listed(folder, *, without=(), channels=(("L", "main"), ("R", "main"), ("S", "sub")), places=PLACES):
    """A list of takes: each loudspeaker arrives, and once more from a wall; files begin before time zero."""
    rng = np.random.default_rng(1)
    lines = []
    for number, (channel, kind) in enumerate(channels):
        for spot, seat in places:
            sample = np.zeros(RATE)
            at = 80 + 6 * number + rng.integers(0, 8)
            sample[at] = -1.0 if channel == "R" else 1.0
            sample[at + rng.integers(40, 90)] = 0.5
            name = f"{channel}{spot}.wav"
            soundfile.write(folder / name, 0.5 * sample, RATE, subtype="FLOAT")
            if (channel, spot) not in without:
                lines.append(f"{channel},{kind},{spot},{seat},{name},{-50 / RATE}")
    path = folder / "takes.csv"
    path.write_text(HEAD + "\n".join(lines) + "\n")
    return path


def ran(folder, takes, *more):
    code = main(["bass", str(takes), "--fir", str(folder / "fir"), "--out", str(folder / "o.json"), *more])
    return code, json.loads((folder / "o.json").read_text()) if code == 0 else None


def test_each_loudspeaker_gets_a_filter_and_each_main_its_delay(tmp_path):
    code, document = ran(tmp_path, listed(tmp_path), "--latency", "20", "--length", "0.2", "--to", "100")
    assert code == 0
    assert document["hand_over_hz"] == 100
    assert document["channels"].keys() == {"L", "R", "S"}
    for row in document["channels"].values():
        sample, rate = soundfile.read(tmp_path / "fir" / row["file"])
        assert (rate, soundfile.info(tmp_path / "fir" / row["file"]).subtype) == (RATE, "FLOAT")
        assert sample.size <= 0.2 * RATE
        assert 20 * np.log10(np.abs(np.fft.rfft(sample, 2**16)).max()) == pytest.approx(
            row["highest_gain_db"], abs=0.05
        )
    # The later of both mains waits for the bass alone, and R is wired the other way.
    assert min(row["delay_ms"] for row in document["mains"].values()) == pytest.approx(20, abs=1e-4)
    assert document["latency_ms"] == 20
    assert {name: row["polarity"] for name, row in document["mains"].items()} == {"L": 1, "R": -1}
    expected = document["expected"]
    assert expected["low_db"] <= expected["spread_db"] <= expected["high_db"]
    assert "Fewer than 3 spots at desk, sofa" in [words.split(":")[0] for words in document["warnings"]]


def test_subs_alone_play_where_that_is_asked_for(tmp_path):
    _, document = ran(tmp_path, listed(tmp_path), "--play", "subs")
    assert document["channels"].keys() == {"S"}
    assert document["mains"].keys() == {"L", "R"}


def test_a_spot_where_one_was_not_taken_is_left_out_and_named(tmp_path):
    _, document = ran(tmp_path, listed(tmp_path, without=[("R", "2")]))
    assert document["warnings"][0] == "Left out 2: R was not taken there."


def test_with_one_spot_at_each_seat_nothing_is_said_of_others(tmp_path):
    _, document = ran(tmp_path, listed(tmp_path, places=(("1", "desk"), ("2", "sofa"))))
    assert document["expected"] is None
    assert any(text.startswith("No seat has two spots") for text in document["warnings"])


@pytest.mark.parametrize(
    ("more", "change", "message"),
    [
        ([], {"channels": [("L", "main")]}, "no sub is listed"),
        ([], {"channels": [("S", "sub")]}, "no main channel is listed"),
        ([], {"without": [("S", "1"), ("L", "2")]}, "no spot of desk has takes of every loudspeaker"),
        (["--main-seat", "roof"], {}, "'roof' is no seat of the list"),
        (["--weights", "roof=1"], {}, "'roof' is no seat of the list"),
        (["--weights", "desk=0,sofa=0"], {}, "no spot belongs to a seat with a weight"),
        (["--to", "300"], {}, "--to"),
        (["--length", "2"], {}, "--length"),
        (["--latency", "900"], {}, "--latency"),
        (["--max-loss", "-3"], {}, "--max-loss"),
    ],
)
def test_what_can_not_be_is_refused_in_one_line_and_nothing_is_written(tmp_path, capsys, more, change, message):
    code, _ = ran(tmp_path, listed(tmp_path, **change), *more)
    printed = capsys.readouterr().err
    assert code == 2
    assert message in printed
    assert printed.count("\n") == 1
    assert not (tmp_path / "o.json").exists()
    assert not (tmp_path / "fir").exists()


def test_takes_at_two_sample_rates_are_refused(tmp_path, capsys):
    takes = listed(tmp_path)
    soundfile.write(tmp_path / "L1.wav", np.eye(1, 500, 100)[0], 2 * RATE)
    assert ran(tmp_path, takes)[0] == 2
    assert "takes are at 8000 and 16000 Hz" in capsys.readouterr().err
