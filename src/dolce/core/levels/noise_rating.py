"""Noise rating (NR) of a quiet room's noise in octaves."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.errors import InvalidValue

OCTAVES_HZ = (31.5, 63, 125, 250, 500, 1000, 2000, 4000, 8000)
# L = a + b NR; constants of ISO/R 1996:1971 (from memory; the printed curves of handbooks agree to 0.5 dB).
_A = np.array([55.4, 35.5, 22.0, 12.0, 4.8, 0.0, -3.5, -6.1, -8.0])
_B = np.array([0.681, 0.790, 0.870, 0.930, 0.974, 1.000, 1.015, 1.025, 1.030])


def rating_curve_db(rating: float) -> NDArray[np.float64]:
    """Octave levels of a rating curve in dB SPL, 31.5 Hz to 8 kHz."""
    return _A + _B * rating


def noise_rating(octave_db: ArrayLike) -> tuple[float, float]:
    """The rating of octave levels in dB SPL, and the octave that decides it.

    The rating is the highest curve that any octave reaches.

    Raises
    ------
    InvalidValue
        If there are not nine finite levels, 31.5 Hz to 8 kHz.

    References
    ----------
    ISO/R 1996:1971; C. W. Kosten and G. J. van Os, "Community reaction criteria for external noises", 1962.
    """
    levels = np.asarray(octave_db, dtype=float)
    if levels.shape != _A.shape or not np.isfinite(levels).all():
        raise InvalidValue(
            f"{levels.size} levels.", where="noise rating", remedy="Give the nine octaves from 31.5 Hz to 8 kHz."
        )
    reached = (levels - _A) / _B
    decisive = int(reached.argmax())
    return float(reached[decisive]), float(OCTAVES_HZ[decisive])
