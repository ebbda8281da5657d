"""Tolerances at their tabulated points, and verdicts that an error bar decides."""

from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose

from dolce.core.dsp import third_octaves_of
from dolce.core.geometry import RoomSize, distance_m
from dolce.core.levels import NOMINAL_HZ
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.response import average_over_spots
from dolce.core.room import new_plan
from dolce.core.tolerance import (
    OWN,
    PUBLISHED,
    Figure,
    ToleranceSet,
    against_bound,
    asked_for,
    judged_angles,
    judged_response,
    judged_reverberation,
    judged_seats,
    wanted_reverberation_s,
)
from dolce.errors import InvalidValue

EBU = PUBLISHED["EBU Tech 3276"]


def test_lines_go_through_their_tabulated_points():
    # EBU Tech 3276 (from memory): +-3 dB from 50 Hz to 2 kHz, the lower bound falling to -6 dB at 16 kHz.
    low, high = EBU.bounds_db([40, 50, 1000, 2000, 5656.85, 16_000, 20_000])
    assert_allclose(low[1:6], [-3, -3, -3, -4.5, -6], atol=0.01)
    assert_allclose(high[1:6], 3)
    assert np.isnan(low[[0, 6]]).all()
    # ITU-R BS.1116-3 and EBU Tech 3276: 0.25 s at 100 m3, the cube root elsewhere.
    assert wanted_reverberation_s(100) == pytest.approx(0.25)
    assert wanted_reverberation_s(800) == pytest.approx(0.5)
    assert all(source for item in PUBLISHED.values() for source in item.sources.values())


@pytest.mark.parametrize(
    ("value", "error", "outcome"),
    [
        (2.0, 0.5, "holds"),
        (2.5, 0.5, "holds"),
        (2.8, 0.5, "inconclusive"),
        (3.3, 0.5, "inconclusive"),
        (3.6, 0.5, "fails"),
        (-3.6, 0.5, "fails"),
        (0.0, np.inf, "inconclusive"),
    ],
)
def test_a_difference_smaller_than_what_can_be_told_decides_nothing(value, error, outcome):
    assert against_bound(value, error, low=-3.0, high=3.0) == outcome


def test_thirds_are_means_of_energy():
    # Two tones of equal level in one third have the mean of both; pink noise is level in all.
    mids, level = third_octaves_of(GRID, np.zeros((2, GRID.size)))
    assert_allclose(level, 0, atol=1e-12)
    assert_allclose(mids[1:] / mids[:-1], 2 ** (1 / 3), rtol=0.01)


def room(rng, bump_db, spread_db, spots):
    shape = bump_db * np.exp(-((np.log2(GRID / 1000) / 0.3) ** 2))
    return shape + spread_db * rng.normal(size=(spots, 1)) * np.exp(-((np.log2(GRID / 1000) / 0.3) ** 2))


def test_the_worst_third_is_named_with_what_the_spots_say_of_it():
    rng = np.random.default_rng(3)
    (sure,) = judged_response("L", GRID, room(rng, 8, 0.3, 12), np.ones(12), EBU)
    assert (sure.outcome, sure.line, sure.subject) == ("fails", "response", "L")
    assert sure.at_hz == pytest.approx(1000, rel=0.15)
    (unsure,) = judged_response("L", GRID, room(rng, 6, 4, 4), np.ones(4), EBU)
    assert unsure.outcome == "inconclusive"
    (even,) = judged_response("L", GRID, room(rng, 1, 0.2, 12), np.ones(12), EBU)
    assert even.outcome == "holds"
    # Of one spot nothing can be told.
    assert judged_response("L", GRID, room(rng, 1, 0, 1), [1.0], EBU)[0].outcome == "inconclusive"


def test_the_interval_holds_the_truth_about_as_often_as_it_says():
    # Monte Carlo: spots scatter about a known room; the average of many more spots lies within the error.
    rng, held = np.random.default_rng(8), 0
    truth = room(rng, 3, 0, 1)[0]
    mids, known = third_octaves_of(GRID, truth)
    known = known - known[(mids >= 200) & (mids <= 4000)].mean()
    wanted = replace(EBU, upper_db=(-30.0, -30.0, -30.0), lower_db=(-40.0, -40.0, -40.0))  # the bump is always told
    for _ in range(200):
        levels = truth + rng.normal(0, 1.5, (10, 1)) * np.exp(-((np.log2(GRID / 1000) / 0.3) ** 2))
        (figure,) = judged_response("L", GRID, levels, np.ones(10), wanted)
        k = int(np.argmin(np.abs(mids - figure.at_hz)))
        held += abs(figure.value - known[k]) <= figure.error
    assert 0.85 <= held / 200 <= 1.0


def test_a_figure_at_its_bound_is_called_beyond_it_in_five_of_a_hundred():
    # One-sided 95 % (JCGM 106:2012): of rooms whose slope is just what is allowed, one in twenty is said to fail.
    wanted = replace(OWN, response_hz=(), upper_db=(), lower_db=(), tilt_db_per_octave=(-1.5, 0.0))
    outcomes = []
    for slopes in np.random.default_rng(9).normal(-1.5, 0.3, (1000, 8)):
        (figure,) = judged_response("C", GRID, slopes[:, None] * np.log2(GRID / 1000), np.ones(8), wanted)
        outcomes.append(figure.outcome)
    # 1,000 draws of 0.05 scatter by 0.007; an interval of 95 of 100 on both sides would say it of 0.025.
    assert 0.036 < outcomes.count("fails") / 1000 < 0.066
    assert 0.036 < outcomes.count("holds") / 1000 < 0.066


def test_a_slope_is_judged_where_it_is_asked_for():
    level = -1.0 * np.log2(GRID / 1000) + np.random.default_rng(2).normal(0, 0.2, (8, 1))
    wanted = replace(OWN, response_hz=(), upper_db=(), lower_db=(), tilt_db_per_octave=(-1.5, 0.0))
    (figure,) = judged_response("C", GRID, level, np.ones(8), wanted)
    assert (figure.line, figure.outcome) == ("tilt", "holds")
    assert figure.value == pytest.approx(-1.0, abs=0.05)


def test_seats_that_differ_by_a_constant_have_that_as_their_variation_and_spots_tell_the_error():
    tilted = np.linspace(-3, 3, GRID.size)
    seat_of = ["main", "main", "main", "back", "back", "back"]
    levels = np.array([tilted + 2 * (seat == "back") for seat in seat_of])
    # Two seats 2 dB apart: 1 dB each from their mean, which is their standard deviation, or its estimate from two.
    exact = judged_seats("L", GRID, levels, [1] * 6, seat_of, within_db=1.6)
    assert exact.value == pytest.approx(average_over_spots(levels[[0, 3]]).spread_db[0], abs=1e-9)
    assert exact.error == pytest.approx(0, abs=1e-9)
    assert exact.outcome == "holds"
    rng = np.random.default_rng(3)
    scattered = levels + rng.normal(0, 2, (6, 1))
    unsure = judged_seats("L", GRID, scattered, [1] * 6, seat_of, within_db=1.6)
    assert unsure.error > 0.5
    one_spot = judged_seats("L", GRID, levels[:4], [1] * 4, seat_of[:4], within_db=1.6)
    assert one_spot.outcome == "inconclusive"
    assert judged_seats("L", GRID, levels[:3], [1] * 3, seat_of[:3], within_db=1.6) is None


def test_angles_are_those_of_the_layout():
    # ITU-R BS.775-3: fronts at 30 degrees, surrounds at 100 to 120.
    plan = new_plan(RoomSize(length_m=6, width_m=5, height_m=2.8), layout="5.1", subs=0)
    found = {angle.subject: angle for angle in judged_angles(plan)}
    assert set(found) == {"L", "R", "C", "Ls", "Rs"}
    assert {item.outcome for item in found.values()} == {"holds"}
    assert (found["Rs"].low, found["Rs"].high) == (100, 120)
    left = next(s for s in plan.speakers if s.channel == "L")
    moved = replace(
        plan,
        speakers=tuple(
            replace(s, place=replace(s.place, x_m=s.place.x_m - 0.9)) if s is left else s for s in plan.speakers
        ),
    )
    assert {angle.subject: angle.outcome for angle in judged_angles(moved)}["L"] == "fails"
    # ITU-R BS.2051-3, system H: upper fronts at 30 to 45 degrees, 45 being nominal; a degree further is outside.
    upper = new_plan(RoomSize(length_m=7, width_m=6, height_m=3), layout="7.1.4", subs=0)
    front = next(s for s in upper.speakers if s.channel == "Ltf")
    (nominal,) = (angle for angle in judged_angles(upper) if angle.subject == "Ltf")
    assert (nominal.outcome, nominal.low) == ("holds", -45)
    assert nominal.value == pytest.approx(-45, abs=nominal.error)
    # What a centimetre at either end turns: 1.4 cm over the distance.
    assert nominal.error == pytest.approx(np.degrees(0.014 / distance_m(front.place, upper.main_seat.place)), rel=0.01)
    wider = replace(
        upper,
        speakers=tuple(
            replace(s, place=replace(s.place, x_m=s.place.x_m - 0.1)) if s is front else s for s in upper.speakers
        ),
    )
    assert {angle.subject: angle.outcome for angle in judged_angles(wider)}["Ltf"] == "fails"


def test_decay_is_judged_by_takes_or_by_bands_and_not_at_all_where_too_few_tell():
    bands = [float(f) for f in NOMINAL_HZ if 100 <= f <= 8000]
    good = judged_reverberation(bands, [[0.25] * len(bands)] * 4, volume_m3=100, within_s=0.05)
    assert (good.outcome, good.value) == ("holds", pytest.approx(0.25))
    long = judged_reverberation(bands, [[0.5] * len(bands)] * 4, volume_m3=100, within_s=0.05)
    assert long.outcome == "fails"
    scattered = judged_reverberation(
        bands, [[0.15 + 0.3 * (k % 2) for k in range(len(bands))]], volume_m3=100, within_s=0.05
    )
    assert scattered.outcome == "inconclusive"
    assert judged_reverberation(bands, [[np.nan] * len(bands)], volume_m3=100, within_s=0.05) is None


@pytest.mark.parametrize(
    ("wrong", "outcome"),
    [
        ({"name": " "}, "needs a name"),
        ({"response_hz": (50.0,)}, "two bounds"),
        ({"response_hz": (50.0, 40.0), "upper_db": (3.0, 3.0), "lower_db": (-3.0, -3.0)}, "follows"),
        ({"response_hz": (50.0, 60.0), "upper_db": (-3.0, 3.0), "lower_db": (3.0, -3.0)}, "upside down"),
        ({"level_db": 50.0}, "out of range"),
    ],
)
def test_sets_that_can_not_be_are_refused(wrong, outcome):
    with pytest.raises(InvalidValue, match=outcome):
        ToleranceSet(**{"name": "Mine", **wrong})


@pytest.mark.parametrize(
    ("value", "outcome", "lift_db", "asked"),
    [
        (4.0, "fails", 3.0, True),
        (-4.0, "fails", 3.0, False),  # too soft where more was asked for
        (4.0, "fails", 0.9, False),
        (4.0, "inconclusive", 3.0, False),
        (-4.0, "fails", -3.0, True),
    ],
)
def test_what_lies_outside_where_the_target_does_was_asked_for(value, outcome, lift_db, asked):
    target = np.where(GRID < 100, lift_db, 0.0) + 7.0  # its own level is of no matter
    figure = Figure(
        line="response", subject="L", unit="dB", value=value, error=0.5, low=-3, high=3, at_hz=63.0, outcome=outcome
    )
    found = asked_for([figure], {"L": target}, at_hz=GRID)
    assert [(a.channel, a.at_hz, round(a.target_db, 2)) for a in found] == ([("L", 63.0, lift_db)] if asked else [])
    assert asked_for([figure], {"R": target}, at_hz=GRID) == ()


def test_bounds_about_a_target_hold_where_the_response_follows_it_and_not_where_it_is_flat():
    target = 8.0 / (1 + (GRID / 80.0) ** 3)  # a bass lift of 8 dB
    wanted = replace(OWN, about="target", tilt_db_per_octave=(-1.5, 0.0))
    follows = target + np.random.default_rng(4).normal(0, 0.1, (8, 1))
    response, slope = judged_response("L", GRID, follows + 3.0, np.ones(8), wanted, target_db=target - 20.0)
    assert response.outcome == "holds"
    assert abs(response.value) < 0.5  # levels of either count nothing
    # The slope is that of the response, with its target or without.
    assert slope.value == pytest.approx(judged_response("L", GRID, follows, np.ones(8), wanted)[1].value)
    (flat, _) = judged_response("L", GRID, follows - target, np.ones(8), wanted, target_db=target)
    # The lowest third of an octave inside of the bounds, which begin at 40 Hz.
    assert (flat.outcome, flat.at_hz) == ("fails", pytest.approx(50, rel=0.02))
    assert flat.value == pytest.approx(-8.0 / (1 + (flat.at_hz / 80.0) ** 3), abs=0.15)
