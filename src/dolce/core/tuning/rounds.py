"""Rounds of a job held against each other: how far every spot is from the target, each at its own level."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import in_band


def spot_deviations_db(
    at_hz: NDArray,
    level_db: ArrayLike,
    target_db: NDArray,
    *,
    level_band_hz: tuple[float, float],
    range_hz: tuple[float, float],
) -> NDArray[np.float64]:
    """RMS deviation of every spot from a target over a range, shape (spots,).

    Parameters
    ----------
    level_db : shape (spots, points)
    level_band_hz : by whose mean each spot is brought to the target: a spot further away is softer, and no fault
    """
    off = np.atleast_2d(np.asarray(level_db, dtype=float)) - target_db
    middle = in_band(at_hz, level_band_hz)
    inside = in_band(at_hz, range_hz)
    off = off - off[:, middle].mean(axis=1, keepdims=True)
    return np.sqrt(np.mean(off[:, inside] ** 2, axis=1))
