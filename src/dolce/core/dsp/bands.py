"""Fractional-octave bands on base ten."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

OCTAVE_RATIO = 10**0.3  # G of IEC 61260-1


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


def in_band(frequency_hz: ArrayLike, band_hz: tuple[float, float], *, octaves: float = 0.0) -> NDArray[np.bool_]:
    """Whether frequencies lie in a band, both edges included, shape as `frequency_hz`.

    Parameters
    ----------
    octaves : float
        By how much the band is wider at each side.
    """
    frequency = np.asarray(frequency_hz)
    wider = 2.0**octaves
    return (frequency >= band_hz[0] / wider) & (frequency <= band_hz[1] * wider)
