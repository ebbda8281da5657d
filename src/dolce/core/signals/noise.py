"""Noise for setting levels."""

import numpy as np
from numpy.typing import NDArray
from scipy import fft


def pink_noise(*, samples: int, sample_rate_hz: float, from_hz: float, to_hz: float, level_dbfs_rms: float,
               rng: np.random.Generator) -> NDArray[np.float64]:
    """Periodic noise with equal energy in every octave of a band: one period, shape (samples,).

    Parameters
    ----------
    level_dbfs_rms : float
        As AES17 counts: a full-scale sine is 0 dBFS RMS, so -20 dBFS is a digital RMS of 0.1 / sqrt(2).

    References
    ----------
    AES17 for the level. Random phases with a 1/sqrt(f) spectrum give a flat energy per octave exactly.
    """
    frequency = fft.rfftfreq(samples, 1 / sample_rate_hz)
    inside = (frequency >= from_hz) & (frequency <= to_hz)
    spectrum = np.zeros(frequency.size, dtype=complex)
    phase = rng.uniform(0, 2 * np.pi, np.count_nonzero(inside))
    spectrum[inside] = np.exp(1j * phase) / np.sqrt(frequency[inside])
    noise = fft.irfft(spectrum, samples)
    rms = 10 ** (level_dbfs_rms / 20) / np.sqrt(2)
    return noise * rms / np.sqrt(np.mean(noise**2))
