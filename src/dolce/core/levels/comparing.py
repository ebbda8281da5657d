"""Levels in bands held against each other, and an average of a response as such bands would show it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db

COMPARED_HZ = (100.0, 10_000.0)
_PINK_OCTAVES = np.log2(20_000 / 20)  # over which pink noise has its level


@dataclass(frozen=True, slots=True, kw_only=True)
class Apart:
    """How far two curves lie apart from 100 Hz to 10 kHz: RMS, and the largest difference with its frequency."""

    rms_db: float
    most_db: float
    most_hz: float


def apart(
    frequency_hz: NDArray[np.float64],
    level_db: NDArray[np.float64],
    other_hz: NDArray[np.float64],
    other_db: NDArray[np.float64],
) -> Apart:
    """One curve less the other, at the frequencies of the first; both of shape (points,)."""
    other = np.interp(np.log(frequency_hz), np.log(other_hz), other_db)
    inside = in_band(frequency_hz, COMPARED_HZ)
    difference = (level_db - other)[inside]
    worst = int(np.argmax(np.abs(difference)))
    return Apart(
        rms_db=float(np.sqrt(np.mean(difference**2))),
        most_db=float(difference[worst]),
        most_hz=float(frequency_hz[inside][worst]),
    )


def pink_in_bands_db(
    response_db: NDArray[np.float64], *, at_hz: NDArray[np.float64], per_octave: int, noise_dbfs: float
) -> NDArray[np.float64]:
    """What bands show of pink noise of a level through a response on the analysis grid, shape as `at_hz`."""
    level = smoothed_level_db(response_db[None, :], per_octave=max(3.0, float(per_octave)))[0]
    at_bands = np.interp(np.log(at_hz), np.log(ANALYSIS_GRID_HZ), level)
    return at_bands + noise_dbfs - 10 * np.log10(_PINK_OCTAVES * per_octave)
