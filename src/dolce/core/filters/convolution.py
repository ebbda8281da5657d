"""Correction filters as impulse responses."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from dolce.core.filters.peaking import PeakingFilter, chain_level_db

DURATION_S = 1.0          # the same at every rate: seconds decide what a filter resolves, not samples


def minimum_phase_impulse(level_db: NDArray[np.float64]) -> NDArray[np.float64]:
    """Minimum-phase impulse response of a magnitude given from 0 Hz to half the sample rate.

    Parameters
    ----------
    level_db : ndarray, shape (points,)
        At evenly spaced frequencies; `points - 1` a power of two is quickest.

    Returns
    -------
    ndarray, shape (2 * (points - 1),)

    References
    ----------
    A. V. Oppenheim and R. W. Schafer, "Discrete-Time Signal Processing", 3rd ed., section 13.5: the real cepstrum,
    folded onto positive times. The grid must be generous, since the cepstrum wraps.
    """
    size = 2 * (level_db.size - 1)
    cepstrum = fft.irfft(level_db * (np.log(10) / 20), size)
    cepstrum[1: size // 2] *= 2
    cepstrum[size // 2 + 1:] = 0
    return fft.irfft(np.exp(fft.rfft(cepstrum)), size)


def convolution_filter(filters: Sequence[PeakingFilter], *, sample_rate_hz: int,
                       duration_s: float = DURATION_S) -> NDArray[np.float64]:
    """Minimum-phase impulse response of a chain of bands, shape (round(duration_s * sample_rate_hz),).

    The bands are computed anew for the sample rate. The last tenth is faded out by a half cosine.
    """
    samples = round(duration_s * sample_rate_hz)
    size = 1 << int(np.ceil(np.log2(4 * samples)))
    frequency = np.linspace(0, sample_rate_hz / 2, size // 2 + 1)
    impulse = minimum_phase_impulse(chain_level_db(filters, at_hz=frequency, sample_rate_hz=sample_rate_hz))
    impulse = impulse[:samples].copy()
    fade = samples // 10
    impulse[samples - fade:] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fade) + 1) / fade)
    return impulse
