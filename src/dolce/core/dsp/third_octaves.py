"""Mean energy in 1/3-octave bands of curves on a grid."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp.bands import mid_bands
from dolce.core.dsp.decibels import energy_mean_db


def third_octaves_of(
    at_hz: NDArray, level_db: ArrayLike, *, from_hz: float = 24.0, to_hz: float = 16_500.0
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Mid-band frequencies, shape (bands,), and levels in dB, shape (..., bands).

    Parameters
    ----------
    at_hz : ndarray, shape (points,)
        Equally many points in each octave, at least six.
    level_db : shape (..., points)
    """
    mids = mid_bands(per_octave=3, from_hz=from_hz, to_hz=to_hz)
    edge = 2 ** (1 / 6)
    bands = [(at_hz >= mid / edge) & (at_hz < mid * edge) for mid in mids]
    level = np.asarray(level_db, dtype=float)
    return mids, np.stack([energy_mean_db(level[..., band], axis=-1) for band in bands], axis=-1)
