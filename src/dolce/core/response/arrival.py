"""When the direct sound arrives, and with which polarity."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from dolce.core.response.impulse import ImpulseResponse

Polarity = Literal["normal", "inverted", "unsure"]

_ONSET = 0.4             # the direct sound is the first peak above this part of the highest one
_WINDOW = 512            # samples looked at around the onset
_FINER = 32              # interpolation between samples
_UNSURE_BELOW = 0.86     # a turn of 90 degrees at all frequencies, which is neither, agrees to 0.85
_POLARITY_BAND_HZ = (300.0, 1200.0)
_POLARITY_FROM_S, _POLARITY_TO_S = 0.0015, 0.004         # ahead of the arrival and behind it, faded
_POLARITY_DELAYS_S = np.arange(-0.05e-3, 0.45e-3, 0.01e-3)
_POLARITY_ABOVE = 10.0   # energy against what was there before the arrival


@dataclass(frozen=True, slots=True, kw_only=True)
class Arrival:
    """Direct sound of a response.

    Attributes
    ----------
    time_s : float
        To a small part of a sample.
    polarity : "normal", "inverted" or "unsure"
    confidence : float
        How far the phases of the band agree on it, 0 to 1; below 0.86 the polarity is "unsure".
    """

    time_s: float
    polarity: Polarity
    confidence: float


def find_arrival(response: ImpulseResponse) -> Arrival:
    """The first strong peak of the envelope, interpolated between the samples.

    Notes
    -----
    The envelope finds the direct sound whatever its phase. Around it the response itself is interpolated on a grid
    32 times finer (by zero padding its spectrum, exact for a band-limited signal) and a parabola through the highest
    three points gives the time. Polarity is that of the woofer (see `_woofer_balance`): a crossover may turn the
    tweeter, and turns the phase between them in any case (S. H. Linkwitz, JAES 24, 1976).
    """
    near, first = _direct_part(response)
    fine = _interpolated(near)
    peak = _first_peak(fine)
    a, b, c = np.abs(fine[peak - 1: peak + 2])
    bend = a - 2 * b + c
    shift = 0.5 * (a - c) / bend if bend else 0.0
    time_s = response.start_s + (first + (peak + shift) / _FINER) / response.sample_rate_hz

    balance = _woofer_balance(response, time_s)
    confidence = abs(balance)
    polarity = "unsure" if confidence < _UNSURE_BELOW else "normal" if balance > 0 else "inverted"
    return Arrival(time_s=float(time_s), polarity=polarity, confidence=float(confidence))


def _woofer_balance(response: ImpulseResponse, arrival_s: float) -> float:
    """How far the direct sound pushes (1) or pulls (-1) where the woofer plays; 0 where noise has the say.

    Read from 300 Hz to 1.2 kHz in the first 4 ms: below a crossover, where its phase is no more than a delay of up to
    0.4 ms against the tweeter, and above what a cabinet turns at its bottom end. That delay is the one at which the
    phases of all frequencies agree best.
    """
    rate = response.sample_rate_hz
    time = response.time_s - arrival_s
    here = slice(*np.searchsorted(time, (-_POLARITY_FROM_S, _POLARITY_TO_S)))
    before = slice(*np.searchsorted(time, (-_POLARITY_TO_S - 2 * _POLARITY_FROM_S, -_POLARITY_FROM_S)))
    near = time[here]
    window = np.cos(np.pi / 2 * near / np.where(near < 0, _POLARITY_FROM_S, _POLARITY_TO_S)) ** 2
    size = fft.next_fast_len(max(4 * near.size, round(rate / 5)), real=True)
    frequency = fft.rfftfreq(size, 1 / rate)
    low, high = _POLARITY_BAND_HZ
    band = (frequency >= low) & (frequency <= high)
    if near.size < 8 or not band.any():
        return 0.0
    f = frequency[band]
    spectrum = fft.rfft(response.sample[here] * window, size)[band] * np.exp(-2j * np.pi * f * near[0])
    # Every octave alike, the middle ones most.
    weight = np.exp(-((np.log2(f / np.sqrt(low * high)) / (np.log2(high / low) / 2)) ** 2)) / f
    quiet = response.sample[before]
    there = np.sum(weight * np.abs(fft.rfft(quiet, size)[band]) ** 2) * near.size / max(quiet.size, 1)
    if np.sum(weight * np.abs(spectrum) ** 2) < _POLARITY_ABOVE * there:
        return 0.0
    turns = np.exp(2j * np.pi * np.multiply.outer(_POLARITY_DELAYS_S, f))
    agree = np.real(turns * spectrum) @ weight / np.sum(weight * np.abs(spectrum))
    return float(agree[np.argmax(np.abs(agree))])


def _direct_part(response: ImpulseResponse) -> tuple[NDArray, int]:
    """The samples around the onset, and the index of the first of them."""
    sample = response.sample
    # Local maximum of |h| over 8 samples stands in for the envelope: cheap on the whole length.
    magnitude = np.abs(sample)
    highest = magnitude.max()
    onset = int(np.argmax(magnitude >= _ONSET * highest))
    first = min(max(0, onset - _WINDOW // 2), max(0, sample.size - _WINDOW))
    return sample[first: first + _WINDOW], first


def _interpolated(near: NDArray) -> NDArray:
    """`near` on a grid 32 times finer, its ends faded so that the period does not show."""
    faded = near * _faded_ends(near.size)
    spectrum = fft.rfft(faded)
    spectrum[-1] *= 0.5
    return fft.irfft(spectrum, near.size * _FINER) * _FINER


def _faded_ends(size: int) -> NDArray:
    edge = size // 8
    window = np.ones(size)
    ramp = 0.5 - 0.5 * np.cos(np.pi * (np.arange(edge) + 0.5) / edge)
    window[:edge] = ramp
    window[size - edge:] = ramp[::-1]
    return window


def _first_peak(fine: NDArray) -> int:
    """Index of the first local maximum of |fine| that reaches the onset part of the highest one, refined upward.

    After the first crossing the highest point within 1.5 samples is taken, so that a small shoulder ahead of the
    true peak does not win.
    """
    magnitude = np.abs(fine)
    crossing = int(np.argmax(magnitude >= _ONSET * magnitude.max()))
    stop = min(crossing + 3 * _FINER, magnitude.size - 1)
    peak = crossing + int(np.argmax(magnitude[crossing:stop]))
    return min(max(peak, 1), magnitude.size - 2)
