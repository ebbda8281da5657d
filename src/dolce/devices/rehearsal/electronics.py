"""The simulated interface: its delay, its coupling capacitors, its converter."""

import numpy as np
import scipy
from numpy.typing import NDArray

LATENCY_S = 0.0062  # of interface and drivers together
_LOW_CORNER_HZ, _TOP_LOSS_DB = 1.5, 0.3  # coupling capacitors; at 20 kHz
_BENDS_AT = 0.08  # of full scale
_STEPS = 2**23  # a 24-bit converter


def electronics_of(frequency_hz: NDArray) -> NDArray[np.complex128]:
    """Response of the interface: latency, a high-pass far below hearing, a little loss at the top."""
    j = 1j * np.maximum(frequency_hz, 1e-6)
    level = j / (j + _LOW_CORNER_HZ) * 10 ** (-_TOP_LOSS_DB / 20 * (frequency_hz / 20_000) ** 2)
    return level * np.exp(-2j * np.pi * frequency_hz * LATENCY_S)


def electronics_impulse(sample_rate_hz: int) -> NDArray[np.float64]:
    """Impulse response of the interface from an output to an input."""
    size = scipy.fft.next_fast_len(sample_rate_hz, real=True)
    return scipy.fft.irfft(electronics_of(scipy.fft.rfftfreq(size, 1 / sample_rate_hz)), size)[: sample_rate_hz // 2]


def distorted(samples: NDArray) -> NDArray[np.float64]:
    """After a preamplifier that bends over long before its converter ends."""
    return _BENDS_AT * np.tanh(samples / _BENDS_AT)


def converted(samples: NDArray) -> NDArray[np.float64]:
    """As a 24-bit converter gives it."""
    return np.clip(np.rint(samples * _STEPS), -_STEPS, _STEPS - 1) / _STEPS
