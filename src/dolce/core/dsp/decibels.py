"""Levels in dB and their sums."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

_FLOOR = 1e-30  # -300 dB: digital silence gets a level instead of minus infinity


def power_db(power: ArrayLike) -> NDArray[np.float64]:
    """10 lg of a power, with silence at -300 dB."""
    return 10 * np.log10(np.maximum(power, _FLOOR))


def dbfs_rms(samples: ArrayLike) -> float:
    """RMS level as AES17 counts it: a full-scale sine is 0 dBFS."""
    return float(power_db(2 * np.mean(np.square(samples))))


def peak_dbfs(samples: ArrayLike) -> float:
    """Highest sample, full scale 1 being 0 dBFS."""
    return float(power_db(np.square(np.max(np.abs(samples)))))


def energy_sum_db(level_db: ArrayLike, *, axis: int = 0) -> NDArray[np.float64]:
    """Level of incoherent sources together: two equal ones give +3.01 dB."""
    return power_db(np.sum(10 ** (np.asarray(level_db) / 10), axis=axis))


def energy_mean_db(level_db: ArrayLike, *, weights: ArrayLike | None = None, axis: int = 0) -> NDArray[np.float64]:
    """Energy average of levels along an axis, by weight."""
    weight = None if weights is None else np.asarray(weights, dtype=float)
    return power_db(np.average(10 ** (np.asarray(level_db) / 10), axis=axis, weights=weight))


def together_db(count: int) -> float:
    """How much more `count` equal channels read that play the same, in dB: 20 lg n."""
    return 20 * float(np.log10(max(1, count)))
