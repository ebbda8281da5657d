"""Curves that were measured elsewhere."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.response.spectrum import ANALYSIS_GRID_HZ, FrequencyResponse
from dolce.errors import InvalidValue

_LEAST_POINTS = 10  # fewer are no curve
_WIDEST_GAP_OCTAVES = 1.0
_FALLS_DB_PER_OCTAVE = 48.0  # beyond the ends of a curve


def curve_on_grid(curve: FrequencyResponse) -> NDArray[np.float64]:
    """A curve from elsewhere on the analysis grid, shape (points,), in dB; beyond its ends it falls off steeply.

    Raises
    ------
    InvalidValue
        If it has few points, a gap, or hardly any range.
    """
    frequency = curve.frequency_hz
    if frequency.size < _LEAST_POINTS:
        raise InvalidValue(
            f"{frequency.size} points are too few for a curve.",
            where="curve",
            remedy=f"Export at least {_LEAST_POINTS}, better 48 per octave.",
        )
    steps = np.diff(np.log2(frequency))
    if steps.max() > _WIDEST_GAP_OCTAVES:
        k = int(np.argmax(steps))
        raise InvalidValue(
            f"nothing stands between {frequency[k]:g} and {frequency[k + 1]:g} Hz.",
            where="curve",
            remedy="Export the whole range.",
        )
    if frequency[-1] < 2 * frequency[0]:
        raise InvalidValue(
            f"it covers {frequency[0]:g} to {frequency[-1]:g} Hz only.",
            where="curve",
            remedy="Export at least an octave.",
        )
    beyond = np.maximum(np.log2(frequency[0] / ANALYSIS_GRID_HZ), np.log2(ANALYSIS_GRID_HZ / frequency[-1]))
    return curve.on(ANALYSIS_GRID_HZ) - _FALLS_DB_PER_OCTAVE * np.maximum(beyond, 0)
