"""What a simulated room sounds like when nothing plays, and what disturbs it."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.devices.rehearsal.microphones import random_of

ROOM_NOISE_DBFS = -77.0  # RMS at 0 dB of microphone gain (43 dB SPL), on average over many takes
_CORNER_HZ = 100.0
# It comes and goes: standard deviation of its level in dB from take to take, and within one, over about a second.
_TAKES_DB, _WITHIN_DB, _SLOW_S = 0.6, 1.2, 0.9
_HUM_DBFS, _HUM_HZ, _BURST_DBFS, _BURST_S = -66.0, 50, -28.0, 0.15


def room_noise(words: str, samples: int, sample_rate_hz: int) -> NDArray[np.float64]:
    """Noise of a quiet room: falling by 6 dB per octave above 100 Hz, its level never quite steady.

    The same words give the same noise.
    """
    rng = random_of(words)
    white = rng.standard_normal(samples)
    pole = _pole(sample_rate_hz)
    noise = scipy.signal.lfilter([1 - pole], [1, -pole], white) + 0.002 * white
    knots = rng.standard_normal(int(samples / sample_rate_hz / _SLOW_S) + 3)
    slow = np.interp(np.arange(samples) / sample_rate_hz / _SLOW_S, np.arange(knots.size), knots)
    level_db = ROOM_NOISE_DBFS + _TAKES_DB * rng.standard_normal() + _WITHIN_DB * slow
    return noise * 10 ** (level_db / 20) / np.sqrt(2) * np.sqrt((1 + pole) / (1 - pole))


def hum(samples: int, sample_rate_hz: int) -> NDArray[np.float64]:
    """Mains hum in the microphone's line."""
    time_s = np.arange(samples) / sample_rate_hz
    harmonics = [part * np.sin(2 * np.pi * _HUM_HZ * k * time_s + k) for k, part in ((1, 1.0), (2, 0.5), (3, 0.7))]
    return 10 ** (_HUM_DBFS / 20) * np.sum(harmonics, axis=0)


def slam(words: str, samples: int, sample_rate_hz: int) -> NDArray[np.float64]:
    """A door that slams after two fifths of a take."""
    pole = _pole(sample_rate_hz)
    after = np.arange(samples) / sample_rate_hz - 0.4 * samples / sample_rate_hz
    burst = np.where(after > 0, np.exp(-np.maximum(after, 0) / _BURST_S), 0) * random_of(words).standard_normal(samples)
    return 10 ** (_BURST_DBFS / 20) * scipy.signal.lfilter([1 - pole], [1, -pole], burst) / np.sqrt(1 - pole)


def _pole(sample_rate_hz: int) -> float:
    return float(np.exp(-2 * np.pi * _CORNER_HZ / sample_rate_hz))
