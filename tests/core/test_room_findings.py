"""What geometry tells: each finding appears where it should, says the right numbers, and goes where mended."""

from dataclasses import replace

import numpy as np
import pytest

from dolce.core.geometry import Point, RoomSize
from dolce.core.room import Box, Dismissal, Seat, findings_of, new_plan, reflections_of
from dolce.core.room.sights import axis_of, off_axis_deg

SIZE = RoomSize(length_m=7.0, width_m=5.0, height_m=2.8)


def moved(plan, channel, **axes):
    speaker = plan.speaker(channel)
    place = {"x_m": speaker.place.x_m, "y_m": speaker.place.y_m, "z_m": speaker.place.z_m, **axes}
    return plan.replaced(replace(speaker, place=Point(**place)))


def with_seat(plan, **axes):
    seat = plan.main_seat
    place = {"x_m": seat.place.x_m, "y_m": seat.place.y_m, "z_m": seat.place.z_m, **axes}
    return replace(plan, seats=(replace(seat, place=Point(**place)),))


def the(plan, kind, *subjects):
    found = [f for f in findings_of(plan).open if f.kind == kind and f.subjects[: len(subjects)] == subjects]
    return found[0] if found else None


PLAN = new_plan(SIZE)
ROUND = new_plan(SIZE, layout="5.1", subs=1)


@pytest.mark.parametrize(
    ("plan", "kind", "subjects"),
    [
        (moved(PLAN, "L", x_m=0.5), "angle", ("L",)),
        (moved(PLAN, "L", z_m=2.2), "axis height", ("L",)),
        (moved(PLAN, "R", x_m=4.6), "side walls", ("L", "R")),
        (moved(PLAN, "R", y_m=2.0), "distances", ("L", "R")),
        (moved(moved(PLAN, "L", x_m=2.1), "R", x_m=2.9), "stereo base", ("L", "R")),
        (with_seat(PLAN, y_m=6.8), "back wall", ("seat-1",)),
        (with_seat(PLAN, y_m=3.5), "half length", ("seat-1",)),
        (with_seat(PLAN, y_m=4.6), "front part", ("seat-1",)),
        (moved(PLAN, "L", y_m=0.9), "cancellation", ("L", "seat-1")),
        (moved(ROUND, "C", y_m=2.0), "distance", ("C",)),
        (moved(ROUND, "Sub1", x_m=0.3, y_m=0.3), "loading", ("Sub1",)),
        (moved(PLAN, "L", x_m=0.2, y_m=0.2), "unequal loading", ("L", "R")),
        (with_seat(PLAN, x_m=2.5), "mode null", ("seat-1",)),
        (with_seat(PLAN, y_m=6.85), "mode peak", ("seat-1",)),
        (PLAN.replaced(replace(PLAN.speaker("L"), aim="angle", toe_in_deg=-20)), "aim", ("L",)),
        (moved(new_plan(SIZE, layout="5.1.2"), "Ltf", z_m=1.6), "elevation", ("Ltf",)),
    ],
)
def test_each_fault_is_found(plan, kind, subjects):
    finding = the(plan, kind, *subjects)
    assert finding is not None, [f.key for f in findings_of(plan).open]
    assert 0 < finding.weight <= 1
    assert all(np.isfinite(v) for v in finding.values.values())


def test_a_pair_at_60_degrees_has_no_finding_about_its_placing():
    kinds = {f.kind for f in findings_of(PLAN).open}
    assert not kinds & {"angle", "side walls", "distances", "stereo base", "axis height", "aim", "unequal loading"}


def test_advice_about_an_angle_mends_it():
    off = moved(PLAN, "L", x_m=0.5)
    values = the(off, "angle", "L").values
    assert the(moved(off, "L", x_m=values["to_x_m"], y_m=values["to_y_m"]), "angle", "L") is None


def test_advice_about_a_mode_mends_it():
    sitting = with_seat(PLAN, y_m=3.5)
    null = next(f for f in findings_of(sitting).open if f.kind == "mode null" and f.about == "y1")
    # First mode of the length: c / 2 L.
    assert null.values["frequency_hz"] == pytest.approx(sitting.speed_m_s / 14, abs=0.01)
    better = with_seat(PLAN, y_m=3.5 + null.values["by_m"])
    assert not any(f.kind == "mode null" and f.about == "y1" for f in findings_of(better).open)


def test_what_moving_would_do_to_a_cancellation_is_what_it_does():
    near = moved(PLAN, "L", y_m=0.9)
    finding = next(
        f
        for f in findings_of(near).open
        if f.kind == "cancellation" and f.about == "front wall" and f.subjects[0] == "L"
    )
    # The mirror image stands 0.9 m behind the wall: closed form from the two paths.
    speaker, seat = near.speaker("L").place, near.main_seat.place
    direct = np.hypot(seat.x_m - speaker.x_m, seat.y_m - speaker.y_m)
    reflected = np.hypot(seat.x_m - speaker.x_m, seat.y_m + speaker.y_m)
    assert finding.values["frequency_hz"] == pytest.approx(near.speed_m_s / 2 / (reflected - direct), rel=1e-6)
    closer = reflections_of(moved(PLAN, "L", y_m=0.7))
    k = closer.boundaries.index("front wall")
    assert finding.values["nearer_hz"] == pytest.approx(closer.cancellations.frequency_hz[k, 0, 0], rel=1e-6)


def test_desk_reflects_only_where_its_top_is():
    desk = Box(id=1, kind="desk", width_m=1.6, depth_m=0.8, height_m=0.04, place=Point(x_m=2.5, y_m=1.7, z_m=0.7))
    with_desk = reflections_of(replace(PLAN, boxes=(desk,)))
    k = with_desk.boundaries.index("Desk")
    speaker, seat = PLAN.speaker("L").place, PLAN.main_seat.place
    across = np.hypot(seat.x_m - speaker.x_m, seat.y_m - speaker.y_m)
    mirrored = np.hypot(across, (speaker.z_m - 0.74) + (seat.z_m - 0.74))
    middle_x = (speaker.x_m + seat.x_m) / 2
    assert 1.7 <= middle_x <= 3.3  # equal heights: it meets the desk half-way
    assert with_desk.reflected_m[k, 0, 0] == pytest.approx(mirrored)
    aside = replace(PLAN, boxes=(replace(desk, place=Point(x_m=1.0, y_m=6.0, z_m=0.7)),))
    assert np.isinf(reflections_of(aside).reflected_m[k, 0, 0])


def test_a_speaker_in_the_wall_is_not_reflected_by_it():
    plan = moved(PLAN, "L", y_m=0.05)
    built_in = plan.replaced(replace(plan.speaker("L"), in_wall=True))
    k = reflections_of(plan).boundaries.index("front wall")
    assert np.isinf(reflections_of(built_in).reflected_m[k, 0, 0])
    assert np.isfinite(reflections_of(plan).reflected_m[k, 0, 0])


def test_walls_of_an_outline_reflect_as_those_of_the_same_box():
    box = reflections_of(PLAN)
    corners = ((0, 0), (5.0, 0), (5.0, 7.0), (0, 7.0))
    for outline in (corners, corners[::-1]):  # whichever way one walks
        drawn = reflections_of(replace(PLAN, outline=outline))
        for name in ("front wall", "back wall", "left wall", "right wall", "floor", "ceiling"):
            np.testing.assert_allclose(
                drawn.reflected_m[drawn.boundaries.index(name)], box.reflected_m[box.boundaries.index(name)], rtol=1e-12
            )


def test_a_slanting_wall_mirrors_over_its_own_line():
    # The wall from (5, 5) to (3, 7) lies at 45 degrees: (x, y) mirrors to (10 - y, 10 - x).
    plan = replace(PLAN, outline=((0, 0), (5, 0), (5, 5), (3, 7), (0, 7)))
    k = reflections_of(plan).boundaries.index("wall 3")
    speaker = Point(x_m=2.5, y_m=5.5, z_m=1.2)
    seat = Point(x_m=4.0, y_m=4.0, z_m=1.2)
    plan = replace(
        plan,
        seats=(replace(plan.main_seat, place=seat),),
        spots=(),
        speakers=(replace(plan.speakers[0], place=speaker),),
    )
    assert reflections_of(plan).reflected_m[k, 0, 0] == pytest.approx(np.hypot(4.5 - 4.0, 7.5 - 4.0))


def test_dismissed_findings_stay_away_until_the_geometry_changes():
    plan = moved(PLAN, "L", x_m=0.5)
    finding = the(plan, "angle", "L")
    known = Dismissal(key=finding.key, evidence=finding.evidence, reason="the door is there")
    quiet = replace(plan, dismissed=(known,))
    assert the(quiet, "angle", "L") is None
    assert findings_of(quiet).dismissed[0][1].reason == "the door is there"
    again = moved(quiet, "L", x_m=0.4)
    assert the(again, "angle", "L") is not None
    assert findings_of(again).returned[finding.key] == known
    # Moving something else does not bring it back.
    assert the(moved(quiet, "R", z_m=1.21), "angle", "L") is None


def test_other_seats_count_less_than_the_main_one():
    second = Seat(id=2, name="Guest", is_main=False, place=Point(x_m=3.3, y_m=2.94, z_m=1.2), weight=0.2)
    found = findings_of(replace(moved(PLAN, "L", y_m=0.9), seats=(*PLAN.seats, second)))
    weights = {f.subjects[-1]: f.weight for f in reversed(found.open) if f.kind == "cancellation"}
    assert weights["seat-1"] > weights.get("seat-2", 0)


def test_aims():
    left = PLAN.speaker("L")
    assert off_axis_deg(left, PLAN) == pytest.approx(0, abs=1e-9)
    straight = replace(left, aim="straight")
    assert axis_of(straight, PLAN) == (0.0, 1.0)
    assert off_axis_deg(straight, PLAN) == pytest.approx(30, abs=0.5)  # a pair at 60 degrees
    for channel in ("L", "R"):  # inward from either side
        toed = replace(PLAN.speaker(channel), aim="angle", toe_in_deg=30)
        assert off_axis_deg(toed, PLAN) == pytest.approx(0, abs=0.5)
