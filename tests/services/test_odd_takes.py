"""Takes that do not fit the others: one thing goes wrong on a board that was taken as planned."""

import numpy as np
import pytest

from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.response.outliers import outliers, repeats_differ_db
from dolce.services.takes.outliers import outlier_words
from dolce.services.takes.taking import Taking


@pytest.fixture
def board(demo, demo_job):
    """Levels of the attic's board over 1/12 octave by cell, its spots in order, and its job."""
    found = demo.taking.board(demo_job)
    levels = {cell: smoothed_level_db(take.level_db, per_octave=12) for cell, take in found.takes.items()}
    return levels, [spot.id for spot in found.job.spots], found.job


def found_in(levels, spots, arrival_s=None, flight_s=None):
    return outliers(levels, ANALYSIS_GRID_HZ, spots=spots, arrival_s=arrival_s or {}, flight_s=flight_s or {})


def test_nothing_is_odd_on_a_board_taken_as_planned(demo, demo_job, board):
    levels, spots, _ = board
    assert found_in(levels, spots) == []
    assert demo.taking.odd(demo.taking.board(demo_job)) == []


def test_what_is_odd_is_found_anew_when_a_take_is_added_and_once_only_else(demo, demo_job, monkeypatch):
    asked = []
    monkeypatch.setattr(
        "dolce.services.takes.outliers.outliers", lambda levels, *_, **__: asked.append(len(levels)) or []
    )
    board = demo.taking.board(demo_job)
    taking = Taking(demo.context, demo.sound, None)
    for _ in range(2):
        taking.odd(board)
    assert len(asked) == 1
    gone = next(iter(board.takes.values()))
    with demo.context.change() as work:
        work.takes.edit(gone.id, left_out="a door")
    try:
        taking.odd(demo.taking.board(demo_job))
        assert asked == [asked[0], asked[0] - 1]
    finally:
        with demo.context.change() as work:
            work.takes.edit(gone.id, left_out="")


def test_a_microphone_that_was_not_moved_is_found_at_its_spot(board):
    levels, spots, job = board
    noise = np.random.default_rng(1)
    for channel in ("L", "R"):
        levels[channel, spots[4]] = levels[channel, spots[3]] + noise.normal(0, 0.2, ANALYSIS_GRID_HZ.size)
    odd = found_in(levels, spots)
    assert {(item.cell, item.kind, item.other) for item in odd} == {
        ((channel, spots[4]), "not moved", spots[3]) for channel in ("L", "R")
    }
    assert outlier_words(odd[0], job).startswith("Spot 5 sounds as spot 4 did.")


def test_somebody_in_the_way_is_found_at_its_cell(board):
    levels, spots, job = board
    levels["R", spots[2]] = levels["R", spots[2]] - 8 * (ANALYSIS_GRID_HZ > 2000)
    odd = found_in(levels, spots)
    assert [(item.cell, item.kind) for item in odd] == [(("R", spots[2]), "in the way")]
    assert odd[0].value == pytest.approx(8, abs=1)
    assert "less treble at spot 3" in outlier_words(odd[0], job)


def test_two_rows_that_were_exchanged_at_one_spot_are_found_by_their_arrivals(board):
    levels, spots, job = board
    flight = {
        (channel, spot): seconds
        for spot in spots[:3]
        for channel, seconds in (("L", 0.0040), ("R", 0.0043), ("C", 0.0036), ("Ls", 0.0081), ("Rs", 0.0062))
    }
    arrival = {cell: seconds + 0.011 for cell, seconds in flight.items()}  # one latency for all
    assert found_in(levels, spots, arrival, flight) == []
    arrival["Ls", spots[1]], arrival["L", spots[1]] = arrival["L", spots[1]], arrival["Ls", spots[1]]
    odd = found_in(levels, spots, arrival, flight)
    assert {(item.cell[0], item.cell[1], item.kind) for item in odd} == {
        ("L", spots[1], "wrong row"),
        ("Ls", spots[1], "wrong row"),
    }
    assert "arrives as Ls would" in outlier_words(next(item for item in odd if item.cell[0] == "L"), job)


def test_repeats_differ_by_what_moved_between_them(board):
    levels, spots, _ = board
    level = levels["L", spots[0]]
    assert repeats_differ_db([level], ANALYSIS_GRID_HZ) is None
    # Two that are 1 dB apart lie half a dB from their mean; another spot is another room.
    assert repeats_differ_db([level, level + 1], ANALYSIS_GRID_HZ) == pytest.approx(0.5)
    assert repeats_differ_db([level, levels["L", spots[1]]], ANALYSIS_GRID_HZ) > 1.0
