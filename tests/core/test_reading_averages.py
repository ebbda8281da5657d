"""Means over several takes of what each of them says."""

import numpy as np
import pytest

from dolce.core.reading import (
    BandDecay,
    DecayMap,
    DecayTime,
    PhaseCurves,
    TimeCurve,
    mean_curve,
    mean_decay,
    mean_level_db,
    mean_map,
    mean_phase,
)


def test_levels_are_averaged_as_power_and_what_is_not_known_is_left_out():
    # 0 dB and 10 log10(3) dB are powers of 1 and 3: their mean is 2, 3.01 dB.
    three = 10 * np.log10(3)
    assert mean_level_db([np.array([0.0, np.nan, np.nan]), np.array([three, 5.0, np.nan])]) == pytest.approx(
        [10 * np.log10(2), 5.0, np.nan], nan_ok=True
    )


def test_curves_over_time_are_laid_over_each_other_at_their_arrivals():
    time = np.linspace(0, 1, 5)
    late = TimeCurve(time_s=time + 0.125, value=np.array([2.0, 2, 4, 4, 4]))
    first = TimeCurve(time_s=time, value=np.array([0.0, 0, 0, 0, 0]))
    assert mean_curve([first, late], decibel=False).value == pytest.approx([1, 1, 1.5, 2, 2])
    assert mean_curve([first, first], decibel=True).value == pytest.approx(np.zeros(5))


def test_phases_are_averaged_by_their_direction():
    # 170 and -170 degrees point the same way but for 20 degrees: their mean is 180, not 0.
    def curves(degrees):
        return PhaseCurves(
            unwrapped_deg=np.full(9, degrees), minimum_deg=np.full(9, 10.0), excess_deg=np.full(9, degrees - 10)
        )

    mean = mean_phase([curves(170.0), curves(-170.0)])
    assert np.abs(mean.wrapped_deg) == pytest.approx(np.full(9, 180.0))
    assert mean.minimum_deg == pytest.approx(np.full(9, 10.0))


def test_maps_are_averaged_as_power():
    map = DecayMap(time_s=np.arange(2), frequency_hz=np.arange(3), level_db=np.zeros((2, 3)))
    other = DecayMap(time_s=np.arange(2), frequency_hz=np.arange(3), level_db=np.full((2, 3), 10 * np.log10(3)))
    assert mean_map([map, other]).level_db == pytest.approx(np.full((2, 3), 10 * np.log10(2)))


def test_of_decay_times_those_that_can_be_relied_on_are_averaged():
    def band(seconds, why_not=""):
        return (
            BandDecay(
                nominal_hz=100.0, range_db=40.0, times=(DecayTime(kind="T20", seconds=seconds, why_not=why_not),)
            ),
        )

    assert mean_decay([band(0.3), band(0.5), band(2.0, "noise")])[0]["T20"] == DecayTime(
        kind="T20", seconds=pytest.approx(0.4), why_not=""
    )
    doubtful = mean_decay([band(0.3), band(2.0, "noise"), band(None, "noise")])[0]["T20"]
    assert (doubtful.seconds, doubtful.why_not) == (pytest.approx(1.15), "noise")
