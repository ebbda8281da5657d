"""Windows that end where a response sinks into the noise, band by band: what is noise alone is left out."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import raised_cosine
from dolce.core.response.impulse import ImpulseResponse

_CENTRES_HZ = 31.25 * 2.0 ** np.arange(10)  # octaves, 31 Hz to 16 kHz; the outer ones take what lies beyond
_NOISE_FROM_S, _NOISE_TO_S = 0.75, 0.98  # after the arrival: a small room has died away by then
_ABOVE_NOISE = 2.0  # power, where a band counts as still standing above it
_STAYS = 2  # blocks in a row below that before it counts as over


def windowed_by_noise(response: ImpulseResponse, noise: NDArray[np.float64], *, arrival_s: float) -> ImpulseResponse:
    """The response, each octave faded out where it no longer stands above the noise, and in shortly ahead.

    Parameters
    ----------
    response : ImpulseResponse
        From ahead of the arrival to about 0.9 s behind it.
    noise : ndarray, shape (any,)
        What was there when the room had died away: `noise_behind` of the response before it was cut out and faded.

    Notes
    -----
    The octaves are parted by squared cosines over log frequency that add up to one without any phase. The noise of a
    band is its power from 0.75 to 0.98 s after the arrival; where it still decays there, it ends late. Source: our own;
    compare the truncation of ISO 3382-1:2009, 5.3.3, there for the whole band at once.
    """
    rate, count = response.sample_rate_hz, response.sample.size
    size = scipy.fft.next_fast_len(count + round(0.1 * rate), real=True)
    spectrum = scipy.fft.rfft(response.sample, size)
    frequency = scipy.fft.rfftfreq(size, 1 / rate)
    time = response.time_s - arrival_s
    out = np.zeros(count)
    for centre, share, power in zip(_CENTRES_HZ, _shares(frequency), _noise_powers(noise, rate), strict=True):
        if centre > 0.6 * rate:
            continue
        band = scipy.fft.irfft(spectrum * share, size)[:count]
        out += band * _window(band, time, centre, rate, power)
    return ImpulseResponse(sample=out, sample_rate_hz=rate, start_s=response.start_s)


def noise_behind(whole: ImpulseResponse, *, arrival_s: float) -> NDArray[np.float64]:
    """The part of a response from 0.75 to 0.98 s behind its arrival, shape (any,): noise, in a small room."""
    return whole.sample[whole.between(arrival_s + _NOISE_FROM_S, arrival_s + _NOISE_TO_S)].astype(float)


def _noise_powers(noise: NDArray, rate: int) -> NDArray:
    """Mean power of each octave, shape (octaves,)."""
    if noise.size < 256:
        return np.zeros(_CENTRES_HZ.size)
    window = scipy.signal.windows.hann(noise.size)
    power = np.abs(scipy.fft.rfft(noise * window)) ** 2
    shares = _shares(scipy.fft.rfftfreq(noise.size, 1 / rate))
    return 2 * (shares**2 @ power) / noise.size / np.sum(window**2)


def _shares(frequency: NDArray) -> NDArray:
    """What each octave takes of each frequency, shape (octaves, points); they add up to one."""
    place = np.clip(np.log2(np.maximum(frequency, 1e-3) / _CENTRES_HZ[0]), 0, _CENTRES_HZ.size - 1)
    return raised_cosine(1 - np.abs(place[None, :] - np.arange(_CENTRES_HZ.size)[:, None]))


def _window(band: NDArray, time: NDArray, centre_hz: float, rate: int, noise: float) -> NDArray:
    """1 from shortly ahead of the arrival to where the band sinks into the noise, with half cosines at both ends."""
    block = max(round(0.01 * rate), round(2 * rate / centre_hz))
    first = int(np.searchsorted(time, 0.0))
    power = band[first:] ** 2
    blocks = power[: power.size // block * block].reshape(-1, block).mean(axis=1)
    after = (np.arange(blocks.size) + 0.5) * block / rate
    if blocks.size < 4:
        return np.ones(band.size)
    below = blocks < _ABOVE_NOISE * noise
    below[: int(np.argmax(blocks)) + 1] = False
    stays = np.array([below[k : k + _STAYS].all() for k in range(below.size - _STAYS + 1)])
    ends_s = after[int(np.argmax(stays))] if stays.any() else after[-1]
    fade_s = max(0.03, 0.3 * ends_s)
    ahead_s = max(0.003, 2 / centre_hz)
    return raised_cosine((time + 2 * ahead_s) / ahead_s) * raised_cosine(1 - (time - ends_s) / fade_s)
