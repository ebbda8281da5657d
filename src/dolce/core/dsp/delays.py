"""Delays, of parts of a sample too."""

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray


def delay_response(at_hz: ArrayLike, delay_s: ArrayLike) -> NDArray[np.complex128]:
    """What a delay does to a spectrum: exp(-2 pi i f t), shape (*delays, points); negative for earlier."""
    return np.exp(-2j * np.pi * np.multiply.outer(np.asarray(delay_s, dtype=float), np.asarray(at_hz, dtype=float)))


def delayed(samples: NDArray[np.float64], by: float) -> NDArray[np.float64]:
    """Samples later by so many samples, shape as before; what is delayed beyond the end is lost.

    A part of a sample is a phase that grows with frequency, padded so that nothing wraps.
    """
    whole, part = divmod(by, 1)
    if part > 1e-6:
        size = scipy.fft.next_fast_len(samples.size + 256, real=True)
        turned = scipy.fft.rfft(samples, size) * delay_response(scipy.fft.rfftfreq(size), part)
        samples = scipy.fft.irfft(turned, size)[: samples.size]
    return np.concatenate([np.zeros(int(whole)), samples])[: samples.size]
