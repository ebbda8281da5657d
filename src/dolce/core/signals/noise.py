"""Steady test sounds: tones and pink noise at a stated level."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core import checked
from dolce.errors import InvalidValue

_FULL_SINE_RMS = np.sqrt(0.5)


def pink_noise(
    *,
    samples: int,
    sample_rate_hz: float,
    level_dbfs: float,
    rng: np.random.Generator,
    band_hz: tuple[float, float] = (20.0, 20_000.0),
) -> NDArray[np.float64]:
    """One period of pink noise between two frequencies, at an RMS level; it can be repeated without a seam.

    Every line of the spectrum has the same power times frequency, with random phases: flat per octave, with no chance
    in the level of a band.

    Parameters
    ----------
    samples : int
        256 or more.
    level_dbfs : float
        RMS as AES17 counts: a full-scale sine is 0 dBFS, so -20 dBFS has an RMS of 0.0707.
    band_hz : (float, float)
        0 < low < high; drawn in to below half the sample rate.

    Raises
    ------
    InvalidValue
        If the band holds no line of the spectrum, or a peak would exceed full scale.
    """
    checked.within(samples, low=256, high=2**26, where="samples")
    frequency = scipy.fft.rfftfreq(samples, 1 / sample_rate_hz)
    inside = (frequency >= band_hz[0]) & (frequency <= min(band_hz[1], 0.49 * sample_rate_hz)) & (frequency > 0)
    if not inside.any():
        raise InvalidValue(f"nothing lies between {band_hz[0]:g} and {band_hz[1]:g} Hz.", where="band")
    spectrum = np.zeros(frequency.size, dtype=complex)
    spectrum[inside] = np.exp(2j * np.pi * rng.random(inside.sum())) / np.sqrt(frequency[inside])
    noise = scipy.fft.irfft(spectrum, samples)
    noise *= 10 ** (level_dbfs / 20) * _FULL_SINE_RMS / np.sqrt(np.mean(noise**2))
    if np.abs(noise).max() > 1:
        raise InvalidValue(
            f"at {level_dbfs:g} dBFS RMS its peaks exceed full scale.",
            where="level",
            remedy="Choose a level of -13 dBFS or less.",
        )
    return noise


def tone(*, samples: int, sample_rate_hz: float, frequency_hz: float, level_dbfs: float) -> NDArray[np.float64]:
    """A sine at an RMS level (0 dBFS is full scale), with 10 ms fades at both ends so that it does not click.

    Raises
    ------
    InvalidValue
        If the frequency is not between 1 Hz and half the sample rate, or the level above 0 dBFS.
    """
    checked.within(frequency_hz, low=1, high=sample_rate_hz / 2, where="frequency", unit="Hz")
    checked.within(level_dbfs, low=-120, high=0, where="level", unit="dBFS")
    time_s = np.arange(samples) / sample_rate_hz
    fade = np.clip(np.minimum(time_s, time_s[::-1]) / 0.01, 0, 1)
    return 10 ** (level_dbfs / 20) * fade * np.sin(2 * np.pi * frequency_hz * time_s)
