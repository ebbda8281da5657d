"""A curve as it would be with the loudspeaker elsewhere: against the truth of a box whose loudspeaker is known."""

from dataclasses import replace

import numpy as np
import pytest

from dolce.core.geometry import Point, RoomSize
from dolce.core.reading import TOLD_HZ, moved_curve
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.room import Reverberation, box_field, new_plan

PLAN = new_plan(RoomSize(length_m=5.4, width_m=4.2, height_m=2.6), layout="2.0", subs=0)
SPOTS = [spot.place for spot in PLAN.spots]
AT_HZ = np.geomspace(18, 600, 120)
OWN_DB = 4 * np.sin(3 * np.log2(ANALYSIS_GRID_HZ))  # what the loudspeaker does by itself, which no box knows
HERE, THERE = Point(x_m=1.3, y_m=0.75, z_m=1.2), Point(x_m=1.3, y_m=0.5, z_m=1.2)
INSIDE = (TOLD_HZ[0] * 1.3 < ANALYSIS_GRID_HZ) & (TOLD_HZ[1] / 1.3 > ANALYSIS_GRID_HZ)


def taken(place, plan=PLAN):
    """Levels at the spots, shape (spots, points): the box's, and the loudspeaker's own."""
    field = box_field(plan, [place], SPOTS, at_hz=AT_HZ)
    x = np.log(ANALYSIS_GRID_HZ)
    return smoothed_level_db(
        np.array([np.interp(x, np.log(AT_HZ), row) for row in field.level_db]) + OWN_DB, per_octave=12
    )


def field(place):
    return box_field(PLAN, [place], SPOTS, at_hz=AT_HZ)


def test_where_the_box_is_right_a_move_is_predicted_and_the_loudspeaker_stays_as_it_is():
    found = moved_curve(ANALYSIS_GRID_HZ, taken(HERE), field(HERE), field(THERE))
    truth = 10 * np.log10(np.mean(10 ** (taken(THERE) / 10), axis=0))
    assert np.abs(found.now_db - truth)[INSIDE].max() > 4  # the move matters
    np.testing.assert_allclose(found.then_db[INSIDE], truth[INSIDE], atol=0.4)
    outside = (TOLD_HZ[0] / 1.3 > ANALYSIS_GRID_HZ) | (TOLD_HZ[1] * 1.3 < ANALYSIS_GRID_HZ)
    np.testing.assert_array_equal(found.then_db[outside], found.now_db[outside])


def test_a_dip_is_followed_to_its_new_place():
    found = moved_curve(ANALYSIS_GRID_HZ, taken(HERE), field(HERE), field(THERE))
    deep = ANALYSIS_GRID_HZ[INSIDE][np.argmin(found.now_db[INSIDE])]
    dip = found.dip(float(deep))
    assert dip.at_hz == pytest.approx(deep, rel=0.06)
    assert dip.size_db < -5
    assert dip.shallower_db == dip.to_size_db - dip.size_db
    same = moved_curve(ANALYSIS_GRID_HZ, taken(HERE), field(HERE), field(HERE)).dip(float(deep))
    assert (same.to_hz, same.to_size_db) == (same.at_hz, same.size_db)


def test_how_far_a_prediction_can_be_trusted_falls_with_what_the_plan_gets_wrong():
    right = moved_curve(ANALYSIS_GRID_HZ, taken(HERE), field(HERE), field(THERE))
    elsewhere = Point(x_m=2.6, y_m=2.9, z_m=0.6)
    wrong = moved_curve(ANALYSIS_GRID_HZ, taken(HERE), field(elsewhere), field(THERE))
    assert right.agrees > wrong.agrees + 0.2
    assert wrong.off_db > right.off_db


def test_surfaces_take_what_the_plan_says_of_them_or_all_the_same_for_a_time():
    hard = replace(
        PLAN,
        reverberation=Reverberation(
            source="surfaces",
            surfaces=dict.fromkeys(
                ("floor", "ceiling", "front wall", "back wall", "left wall", "right wall"), "rendered brick"
            ),
        ),
    )
    soft = replace(PLAN, reverberation=Reverberation(source="typed", typed_s=0.15))
    level = {
        name: box_field(plan, [HERE], SPOTS, at_hz=AT_HZ).level_db for name, plan in (("hard", hard), ("soft", soft))
    }
    assert level["hard"].std() > 1.2 * level["soft"].std()
    # One loudspeaker twice is 6 dB louder everywhere.
    twice = box_field(soft, [HERE, HERE], SPOTS, at_hz=AT_HZ).level_db
    np.testing.assert_allclose(twice - level["soft"], 20 * np.log10(2), atol=1e-9)
