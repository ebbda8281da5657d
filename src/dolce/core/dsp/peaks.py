"""Peaks between the points of a curve."""

import numpy as np
from numpy.typing import ArrayLike, NDArray


def vertex(before: ArrayLike, peak: ArrayLike, after: ArrayLike) -> NDArray[np.float64]:
    """Where the parabola through three points in a row has its vertex, counted in steps from the middle one.

    0 where the three lie on a straight line.

    References
    ----------
    J. O. Smith, "Spectral Audio Signal Processing", quadratic interpolation of spectral peaks.
    """
    before, peak, after = (np.asarray(height, dtype=float) for height in (before, peak, after))
    bend = before - 2 * peak + after
    return np.where(bend != 0, 0.5 * (before - after) / np.where(bend != 0, bend, 1.0), 0.0)
