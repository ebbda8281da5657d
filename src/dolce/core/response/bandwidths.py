"""Widths of smoothing that go with frequency, as parts of an octave: N for 1/N."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

_FINE, _WIDE = 24.0, 3.0  # of an octave, below and above
_FINE_TO_HZ, _WIDE_FROM_HZ = 100.0, 5000.0


def finer_below(frequency_hz: ArrayLike) -> NDArray[np.float64]:
    """1/24 octave up to 100 Hz, 1/3 from 5 kHz on, straight over the logarithms between (common practice)."""
    place = np.log(np.asarray(frequency_hz) / _FINE_TO_HZ) / np.log(_WIDE_FROM_HZ / _FINE_TO_HZ)
    return _FINE * (_WIDE / _FINE) ** np.clip(place, 0, 1)


def equivalent_bandwidth_hz(frequency_hz: ArrayLike) -> NDArray[np.float64]:
    """Equivalent rectangular bandwidth of the ear's filters, 24.7 (4.37 f / kHz + 1) Hz.

    References
    ----------
    B. R. Glasberg and B. C. J. Moore, "Derivation of auditory filter shapes from notched-noise data", Hearing Research
    47, 103-138 (1990), eq. 3.
    """
    return 24.7 * (4.37 * np.asarray(frequency_hz, dtype=float) / 1000 + 1)


def auditory(frequency_hz: ArrayLike) -> NDArray[np.float64]:
    """The part of an octave, on base ten as all bands here, that spans one equivalent rectangular bandwidth."""
    half = equivalent_bandwidth_hz(frequency_hz) / np.asarray(frequency_hz, dtype=float) / 2
    # Edges f / r and f r with f r - f / r = bandwidth.
    ratio = half + np.sqrt(half**2 + 1)
    return 0.3 * np.log(10) / (2 * np.log(ratio))
