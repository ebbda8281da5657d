"""How a response dies away over frequency: a map of level over time and frequency, and slices of it."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.checked import within
from dolce.core.dsp import power_db, raised_cosine, smoothed_power
from dolce.core.response import ImpulseResponse, transformed

SLICE_FADE_S = 0.01


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class DecayMap:
    """Level over time after the arrival and frequency, in dB under the strongest.

    Attributes
    ----------
    time_s : ndarray, shape (moments,)
    frequency_hz : ndarray, shape (points,)
    level_db : ndarray, shape (moments, points)
    """

    time_s: NDArray[np.float64]
    frequency_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]


def map_of_cycles(
    response: ImpulseResponse, *, at_hz: NDArray, at_s: NDArray, arrival_s: float, cycles: float
) -> DecayMap:
    """A map with the same number of cycles at each frequency: fine in frequency below, fine in time above.

    The power passed by a Gaussian band around each frequency whose envelope in time has a standard deviation of
    `cycles` / (2 pi) periods (a Morlet wavelet). 2 to 60 cycles.
    """
    within(cycles, low=2, high=60, where="cycles", unit="cycles")
    return _map(response, at_hz, at_s, arrival_s, at_hz / cycles)


def map_of_time(
    response: ImpulseResponse, *, at_hz: NDArray, at_s: NDArray, arrival_s: float, window_ms: float
) -> DecayMap:
    """A map with the same window in time at each frequency, 5 to 500 ms wide (six standard deviations)."""
    within(window_ms, low=5, high=500, where="window", unit="ms")
    deviation_s = window_ms / 1000 / 6
    return _map(response, at_hz, at_s, arrival_s, np.full(at_hz.size, 1 / (2 * np.pi * deviation_s)))


def _map(response: ImpulseResponse, at_hz: NDArray, at_s: NDArray, arrival_s: float, deviation_hz: NDArray) -> DecayMap:
    """Each frequency's band is cut out of one transform, and brought back at the rate that such a band needs."""
    rate = response.sample_rate_hz
    size = scipy.fft.next_fast_len(response.sample.size + round(0.3 * rate), real=True)
    spectrum = scipy.fft.rfft(response.sample, size)
    step_hz = rate / size
    level = np.empty((at_s.size, at_hz.size))
    for k, (frequency, deviation) in enumerate(zip(at_hz, deviation_hz, strict=True)):
        first = max(0, round((frequency - 4 * deviation) / step_hz))
        last = min(spectrum.size, round((frequency + 4 * deviation) / step_hz) + 1)
        band = spectrum[first:last] * np.exp(-0.5 * ((np.arange(first, last) * step_hz - frequency) / deviation) ** 2)
        # Wide bands have samples enough as they are; between those of narrow ones straight lines would cut corners.
        points = scipy.fft.next_fast_len(max((8 if band.size < 2000 else 2) * band.size, 16))
        envelope = np.abs(scipy.fft.ifft(band, points)) ** 2 * points**2
        time = np.arange(points) * size / rate / points + response.start_s - arrival_s
        level[:, k] = power_db(np.interp(at_s, time, envelope) / max(deviation, 1e-9) ** 2)
    return DecayMap(time_s=at_s, frequency_hz=at_hz, level_db=level - level.max())


def ringing_s(found: DecayMap, *, from_s: float = 0.05, down_db: float = 25.0) -> NDArray[np.float64]:
    """Decay time of every frequency of a map, in s, shape (points,); NaN where nothing decays.

    A line through what follows `from_s` after the arrival until it has fallen by `down_db`.
    """
    begin = int(np.searchsorted(found.time_s, from_s))
    out = np.full(found.frequency_hz.size, np.nan)
    for k, level in enumerate(found.level_db.T):
        below = np.flatnonzero(level[begin:] < level[begin] - down_db)
        end = begin + (int(below[0]) if below.size else level.size - begin)
        if end - begin >= 4:
            slope = float(np.polyfit(found.time_s[begin:end], level[begin:end], 1)[0])
            out[k] = -60 / slope if slope < 0 else np.nan
    return out


def decay_slices(
    response: ImpulseResponse, *, at_hz: NDArray, at_s: NDArray, arrival_s: float, per_octave: float
) -> DecayMap:
    """What is still to come at each moment: spectra of the response from there to its end.

    The window rises over 10 ms ahead of each moment, so a slice tells nothing finer in time. Levels in dB under the
    strongest of all slices.

    References
    ----------
    L. R. Fincham, "Refinements in the impulse testing of loudspeakers", JAES 33, 133-140 (1985).
    """
    time = response.time_s - arrival_s
    level = np.empty((at_s.size, at_hz.size))
    for k, moment in enumerate(at_s):
        window = raised_cosine((time - moment + SLICE_FADE_S) / SLICE_FADE_S)
        frequency, spectrum = transformed(
            ImpulseResponse(
                sample=response.sample * window, sample_rate_hz=response.sample_rate_hz, start_s=response.start_s
            )
        )
        power = smoothed_power(frequency[1:], np.abs(spectrum[1:]) ** 2, at_hz=at_hz, per_octave=per_octave)
        level[k] = power_db(power)
    return DecayMap(time_s=at_s, frequency_hz=at_hz, level_db=level - level.max())
