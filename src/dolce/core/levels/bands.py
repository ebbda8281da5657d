"""Fractional-octave bands on base ten."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

OCTAVE_RATIO = 10**0.3  # G of IEC 61260-1
# Where levels are compared (common practice).
LEVEL_BAND_HZ = (500.0, 2000.0)  # neither the room's bass nor the directivity of tweeters rules
SUB_LEVEL_BAND_HZ = (30.0, 80.0)  # where subs play, clear of crossovers


def mid_bands(*, per_octave: int, from_hz: float, to_hz: float) -> NDArray[np.float64]:
    """Exact mid-band frequencies 1000 G^(k/b) between two limits inclusive, for odd b as for sampling grids.

    References
    ----------
    IEC 61260-1:2014, eq. (2) with G = 10^0.3. (For even b the standard shifts by half a band; a sampling grid
    does not need that, and we do not use it.)
    """
    first = int(np.ceil(per_octave * np.log(from_hz / 1000) / np.log(OCTAVE_RATIO) - 1e-9))
    last = int(np.floor(per_octave * np.log(to_hz / 1000) / np.log(OCTAVE_RATIO) + 1e-9))
    return 1000 * OCTAVE_RATIO ** (np.arange(first, last + 1) / per_octave)


def band_edges(mid_hz: ArrayLike, *, per_octave: ArrayLike) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Lower and upper edges f G^(-1/2b), f G^(+1/2b) (IEC 61260-1:2014, eqs. 4 and 5)."""
    half = OCTAVE_RATIO ** (1 / (2 * np.asarray(per_octave, dtype=float)))
    mid = np.asarray(mid_hz, dtype=np.float64)
    return mid / half, mid * half
