"""What drifted between two rounds."""

import numpy as np
import pytest

from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import SpotLevels, arrivals_apart, change_of

BANDS = {"level_band_hz": (500.0, 2000.0), "range_hz": (40.0, 10_000.0)}


def spots(level_db: np.ndarray, *ids: int) -> SpotLevels:
    return SpotLevels(spots=ids, level_db=np.array([level_db] * len(ids)))


def test_a_channel_that_is_softer_everywhere_has_another_level_and_the_same_response():
    flat = np.zeros(ANALYSIS_GRID_HZ.size)
    found = change_of("L", ANALYSIS_GRID_HZ, spots(flat, 1, 2, 3), spots(flat - 3.0, 2, 3, 4), **BANDS)
    assert (found.spots, found.beyond_repeats) == (2, ("level",))
    assert found.level_db == pytest.approx(-3.0)
    assert found.shape_db == pytest.approx(0.0, abs=1e-9)


def test_a_resonance_that_was_not_there_is_named_by_its_frequency():
    bump = 6.0 * np.exp(-((np.log2(ANALYSIS_GRID_HZ / 120.0) / 0.6) ** 2))
    found = change_of("L", ANALYSIS_GRID_HZ, spots(0 * bump, 1, 2, 3, 4), spots(bump, 1, 2, 3, 4), **BANDS)
    assert found.beyond_repeats == ("response",)
    assert found.most_hz == pytest.approx(120, rel=0.05)
    # The mean of that bump over a third of an octave around its middle.
    inside = np.abs(np.log2(ANALYSIS_GRID_HZ / 120.0)) <= 1 / 6
    assert found.most_db == pytest.approx(bump[inside].mean(), abs=0.15)


def test_less_than_a_microphone_put_back_by_hand_explains_is_nothing():
    # Of the bounds of a proof: level 0.15 + 0.7/sqrt(4), response 0.3 + 0.7/sqrt(4) dB.
    wave = np.sin(2 * np.pi * np.log2(ANALYSIS_GRID_HZ))
    found = change_of("L", ANALYSIS_GRID_HZ, spots(0 * wave, 1, 2, 3, 4), spots(0.4 + 0.6 * wave, 1, 2, 3, 4), **BANDS)
    assert found.beyond_repeats == ()
    assert change_of("L", ANALYSIS_GRID_HZ, spots(0 * wave, 1), spots(wave, 2), **BANDS) is None


def test_a_latency_that_all_channels_share_is_no_drift():
    later = arrivals_apart({"L": 0.010, "R": 0.010, "C": 0.012}, {"L": 0.015, "R": 0.015, "C": 0.0175, "Ls": 0.1})
    assert later == pytest.approx({"L": 0.0, "R": 0.0, "C": 0.0005})
    assert arrivals_apart({"L": 0.01}, {"L": 0.02}) == {}
