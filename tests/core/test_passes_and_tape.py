"""What a pass takes in which order, and where a stand goes by the tape."""

import pytest

from dolce.core.geometry import Point, RoomSize
from dolce.core.job import LinesResult, NoiseResult, PassOptions, passes, result_as, result_of, steps_of, waits_of
from dolce.core.room import move_of, tape_of
from dolce.errors import InvalidValue, NotFound


def test_order_by_spot_moves_the_microphone_least(demo, demo_job):
    job = demo.jobs.get(demo_job)
    spots = [s.id for s in job.spots]
    by_spot = steps_of(job, PassOptions(), lambda *_: False)
    assert by_spot == [(c, s) for s in spots for c in ("L", "R")]
    assert steps_of(job, PassOptions(order="channel"), lambda *_: False) == [(c, s) for c in ("L", "R") for s in spots]
    assert sum(waits_of(by_spot, 10)) == 90
    assert waits_of(by_spot, 10)[:3] == [10, 0, 10]


def test_only_what_is_chosen_and_missing_is_taken(demo, demo_job):
    job = demo.jobs.get(demo_job)
    first, second, *_ = (s.id for s in job.spots)
    taken = {("L", first), ("R", second)}
    options = PassOptions(channels=("R",), spots=(first, second))
    assert steps_of(job, options, lambda *cell: cell in taken) == [("R", first)]
    again = PassOptions(channels=("R",), spots=(second,), taken_too=True)
    assert steps_of(job, again, lambda *cell: cell in taken) == [("R", second)]
    with pytest.raises(NotFound):
        steps_of(job, PassOptions(channels=("Z",)), lambda *_: False)
    with pytest.raises(InvalidValue, match="wait"):
        PassOptions(wait_s=61)


def test_a_tape_goes_to_the_nearer_walls():
    tape = tape_of(Point(x_m=2.5, y_m=1.0, z_m=1.2), RoomSize(length_m=5.0, width_m=4.0, height_m=2.5))
    assert (tape.side, tape.end) == ("right", "front")
    assert (tape.side_m, tape.end_m, tape.up_m, tape.ceiling_m) == pytest.approx((1.5, 1.0, 1.2, 1.3))
    move = move_of(Point(x_m=1, y_m=1, z_m=1), Point(x_m=1.3, y_m=0.6, z_m=1))
    assert (move.right_m, move.back_m, move.up_m, move.distance_m) == pytest.approx((0.3, -0.4, 0, 0.5))


def test_a_placement_is_taken_where_one_of_its_spots_lacks_something(demo, demo_job, monkeypatch):
    job = demo.jobs.get(demo_job)
    first, second, third, fourth, *_ = (s.id for s in job.spots)
    pairs = {first: [first, second], second: [first, second], third: [third, fourth], fourth: [third, fourth]}
    monkeypatch.setattr(passes, "placement_of", lambda job, spot: pairs[spot])
    options = PassOptions(channels=("L",), spots=(first, second, third, fourth))
    assert steps_of(job, options, lambda channel, spot: spot != second) == [("L", first)]


def test_a_pass_has_a_result_of_its_own_kind_alone():
    found = LinesResult(lines={})
    assert result_as(LinesResult, found) is found
    assert result_as(NoiseResult, None) == result_of(NoiseResult, None) == NoiseResult()  # before anything was found
    with pytest.raises(TypeError, match="LinesResult, not NoiseResult"):
        result_as(NoiseResult, found)
