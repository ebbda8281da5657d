"""Budgets of headline figures, against closed forms and Monte Carlo."""

import math

import numpy as np
import pytest

from dolce.core.error_budget import (
    ErrorBudget,
    Part,
    arrival_budget,
    deviation_budget,
    level_at,
    level_budget,
    rms_moved_by,
)
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.errors import InvalidValue

BAND = (100.0, 1600.0)


def of(budget, source):
    return next(part for part in budget.parts if part.source == source).value


def deviation(level_db, **changed):
    given = {
        "band_hz": BAND,
        "weights": [1.0] * 9,
        "spots_error_db": 0.2,
        "temperature_c": 20.0,
        "calibrated": True,
        "steps_db": np.zeros((0, GRID.size)),
    }
    return deviation_budget(GRID, level_db, np.zeros(GRID.size), **{**given, **changed})


def test_parts_add_as_squares_and_the_largest_dominates():
    budget = ErrorBudget(parts=(Part(source="placement", value=3.0), Part(source="spots", value=4.0)))
    assert budget.total == pytest.approx(5.0)  # 3, 4, 5
    assert budget.dominant == ("spots",)
    assert ErrorBudget(parts=(Part(source="microphone", value=0.0, cancels=True),)).dominant == ()


def test_what_errors_do_to_an_rms_is_what_monte_carlo_finds():
    rng = np.random.default_rng(4)
    off = 3 * np.sin(np.linspace(0, 9, 400)) + 1
    errors = 0.3 * np.repeat(np.eye(8), 50, axis=1)  # eight stretches, each by itself
    found = [np.sqrt(np.mean((off + rng.normal(size=8) @ errors) ** 2)) for _ in range(4000)]
    # First order: the rest is of second order in 0.3 dB against 2 dB.
    assert rms_moved_by(off, errors) == pytest.approx(np.std(found), rel=0.06)
    assert rms_moved_by(np.zeros(400), errors) == pytest.approx(0.3)
    assert rms_moved_by(np.full(400, 1e-9), errors) <= 0.3


def test_each_source_of_a_deviation_is_what_it_is_by_itself():
    hill = 4 * np.exp(-((np.log2(GRID / 400) / 0.2) ** 2))
    budget = deviation(hill)
    # Nine spots: a third of one; of what spots differ by, no more than all.
    wide = deviation(hill, spots_error_db=0.5)
    assert of(wide, "placement") == pytest.approx(0.73 / 3)
    assert math.hypot(of(wide, "spots"), of(wide, "placement")) == pytest.approx(0.5)
    assert (of(budget, "placement"), of(budget, "spots")) == (0.2, 0.0)
    # One spot that counts nearly alone tells as little as one (Kish: 1 / sum of squares of the shares).
    uneven = deviation(hill, weights=[100.0, 1.0], spots_error_db=9.0)
    assert of(uneven, "placement") == pytest.approx(0.73 / math.sqrt(101**2 / 10_001))
    alone = deviation(hill, weights=[1.0], spots_error_db=math.inf, calibrated=False)
    assert of(alone, "placement") == 0.73
    assert set(alone.dominant) == {"spots", "microphone"}
    assert of(budget, "rounding") == 0
    # A hill that stays within the band only moves: its RMS does not.
    assert of(budget, "temperature") < 1e-3
    assert of(deviation(4 * np.exp(-((np.log2(GRID / 100) / 0.2) ** 2))), "temperature") > 1e-3
    # A level that is off by as much everywhere: an octave of four moves it by a quarter, four of them by half a dB.
    assert of(deviation(np.full(GRID.size, 2.0)), "microphone") == pytest.approx(0.5, abs=0.04)
    assert math.isinf(deviation(hill, calibrated=False).total)
    steps = 0.25 * np.exp(-((np.log2(GRID / 400) / 0.2) ** 2))[None]
    # A filter that does just what the deviation is: in proportion.
    rms = np.sqrt(np.mean(hill[(GRID >= 100) & (GRID <= 1600)] ** 2))
    assert of(deviation(hill, steps_db=steps), "rounding") == pytest.approx(rms * 0.25 / 4, rel=1e-6)
    with pytest.raises(InvalidValue):
        deviation(hill, band_hz=(30_000.0, 40_000.0))


def test_warmer_air_moves_a_response_up_with_the_speed_of_sound():
    # 331.3 sqrt(1 + T / 273.15): from 20 to 22 degrees by 0.34 %.
    ratio = math.sqrt((273.15 + 22) / (273.15 + 20))
    peak = -((np.log2(GRID / 100) / 0.1) ** 2)
    moved = level_at(GRID, peak, temperature_c=20.0, by_k=2.0)
    fine = np.geomspace(95, 105, 4001)
    at = fine[np.argmax(np.interp(fine, GRID, moved))]
    assert at == pytest.approx(100 * ratio, rel=0.006)  # a step of the grid
    expected = -((np.log2(GRID / (100 * ratio)) / 0.1) ** 2)
    near = np.abs(np.log2(GRID / 100)) < 0.1
    assert np.abs(moved - expected)[near].max() < 0.02


def test_levels_and_arrivals_between_two_channels():
    level = level_budget(weights=[1.0] * 4, spots_error_db=1.0, trim_step_db=0.5)
    rng = np.random.default_rng(2)
    apart = rng.uniform(-0.25, 0.25, 50_000) - rng.uniform(-0.25, 0.25, 50_000)
    assert of(level, "rounding") == pytest.approx(2 * apart.std(), rel=0.02)
    assert of(level, "placement") == pytest.approx(2 * 0.15 * math.sqrt(2) / 2)
    arrival = arrival_budget((2.0, 3.0), spots=1, spots_error_s=1e-5, delay_step_s=0.0, temperature_c=20.0)
    assert of(arrival, "placement") == pytest.approx(0.04 / 343.2, rel=1e-3)  # opposite sides, 2 cm off
    # A metre takes 2.914 ms at 20 degrees, 0.34 % less at 22.
    assert of(arrival, "temperature") == pytest.approx(2.914e-3 * 0.0034, rel=0.02)
    assert (
        of(arrival_budget((2.0, 2.0), spots=1, spots_error_s=0, delay_step_s=0, temperature_c=20.0), "temperature") == 0
    )
