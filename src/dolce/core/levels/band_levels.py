"""Levels in fractional-octave bands, by filters of the standard's kind laid over a power spectrum."""

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import OCTAVE_RATIO, power_db
from dolce.errors import InvalidValue

_ORDER = 3  # of the Butterworth band-pass; meets class 1 of IEC 61260-1
# Narrowed so that the filter lets through as much noise as an ideal one from edge to edge.
_NARROWED = (np.pi / (2 * _ORDER)) / np.sin(np.pi / (2 * _ORDER))
NOMINAL_HZ = (
    20,
    25,
    31.5,
    40,
    50,
    63,
    80,
    100,
    125,
    160,
    200,
    250,
    315,
    400,
    500,
    630,
    800,
    1000,
    1250,
    1600,
    2000,
    2500,
    3150,
    4000,
    5000,
    6300,
    8000,
    10000,
    12500,
    16000,
    20000,
)  # ISO 266, 1/3-octave bands


def exact_mid_hz(nominal_hz: ArrayLike) -> NDArray[np.float64]:
    """Exact mid-band frequencies of nominal 1/3-octave bands: the nearest 1000 G^(k/3) (IEC 61260-1, eq. 2)."""
    k = np.rint(3 * np.log(np.asarray(nominal_hz, dtype=float) / 1000) / np.log(OCTAVE_RATIO))
    return 1000 * OCTAVE_RATIO ** (k / 3)


def band_filter_db(frequency_hz: ArrayLike, mid_hz: float, *, per_octave: float) -> NDArray[np.float64]:
    """Gain of a band's filter at frequencies above 0, in dB: Butterworth, order 3, as wide for noise as an ideal one.

    References
    ----------
    IEC 61260-1:2014, 5.10 and table 1 for what it has to keep to.
    """
    return 10 * np.log10(band_filters(frequency_hz, [mid_hz], per_octave=per_octave)[0])


def band_filters(frequency_hz: ArrayLike, mid_hz: ArrayLike, *, per_octave: float) -> NDArray[np.float64]:
    """The same of several bands, as shares of power, shape (bands, frequencies)."""
    f, mid = np.asarray(frequency_hz, dtype=float), np.asarray(mid_hz, dtype=float)[:, None]
    half = OCTAVE_RATIO ** (1 / (2 * per_octave))
    square = (_NARROWED / (half - 1 / half) * (f / mid - mid / f)) ** 2
    power = square.copy()
    for _ in range(_ORDER - 1):  # products: powers and logarithms take four times as long
        power *= square
    power += 1
    return np.reciprocal(power, out=power)


def band_levels_db(
    samples: NDArray[np.float64], mid_hz: ArrayLike, *, per_octave: float, sample_rate_hz: float
) -> NDArray[np.float64]:
    """Level of steady sound in bands, dBFS as AES17 counts, shape (bands,).

    The power spectrum is an average over half-overlapping Hann windows (Welch) of about a second, so that the narrowest
    band holds several lines; shorter sounds take one window.

    Raises
    ------
    InvalidValue
        If there are fewer than 1,000 samples, or a band reaches above half the sample rate.
    """
    mid = np.asarray(mid_hz, dtype=float)
    if samples.size < 1000:
        raise InvalidValue(f"{samples.size} samples.", where="sound", remedy="Give at least 1,000.")
    if mid.max() * OCTAVE_RATIO ** (0.5 / per_octave) > sample_rate_hz / 2:
        raise InvalidValue(f"the band at {mid.max():g} Hz reaches above half of {sample_rate_hz:g} Hz.", where="bands")
    window = min(samples.size, round(1.0 * sample_rate_hz))
    frequency, density = scipy.signal.welch(samples, sample_rate_hz, window="hann", nperseg=window, detrend=False)
    power = density * (frequency[1] - frequency[0])
    return power_db(2 * band_filters(frequency[1:], mid, per_octave=per_octave) @ power[1:])
