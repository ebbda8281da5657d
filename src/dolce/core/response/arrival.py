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
_UNSURE_BELOW = 0.15


@dataclass(frozen=True, slots=True, kw_only=True)
class Arrival:
    """Direct sound of a response.

    Attributes
    ----------
    time_s : float
        To a small part of a sample.
    polarity : "normal", "inverted" or "unsure"
    confidence : float
        How far the first swing outweighs the opposite one, 0 to 1; below 0.15 the polarity is "unsure".
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
    three points gives the time. The sign of that peak, weighed against the opposite swing next to it after removing
    what lies above 5 kHz, gives the polarity.
    """
    near, first = _direct_part(response)
    fine = _interpolated(near)
    peak = _first_peak(fine)
    a, b, c = np.abs(fine[peak - 1: peak + 2])
    bend = a - 2 * b + c
    shift = 0.5 * (a - c) / bend if bend else 0.0
    time_s = response.start_s + (first + (peak + shift) / _FINER) / response.sample_rate_hz

    slow = _low_passed(near, response.sample_rate_hz)
    centre = round(peak / _FINER)
    # Over 1.5 ms ahead and behind: the first cycle of what a woofer and tweeter do together.
    reach = max(3, round(0.0015 * response.sample_rate_hz))
    swing = slow[max(0, centre - reach): centre + reach]
    up, down = max(swing.max(), 0.0), max(-swing.min(), 0.0)
    total = up + down
    balance = (up - down) / total if total else 0.0
    confidence = abs(balance)
    if confidence < _UNSURE_BELOW or np.sign(balance) != np.sign(fine[peak]):
        # The broadband peak and the band-limited swing have to agree; a disagreement is nobody's guess.
        return Arrival(time_s=float(time_s), polarity="unsure", confidence=float(min(confidence, _UNSURE_BELOW)))
    return Arrival(time_s=float(time_s), polarity="normal" if balance > 0 else "inverted",
                   confidence=float(confidence))


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


def _low_passed(near: NDArray, sample_rate_hz: int, *, corner_hz: float = 5000.0) -> NDArray:
    """`near` without what lies above the corner; zero phase, so nothing moves."""
    spectrum = fft.rfft(near * _faded_ends(near.size))
    frequency = fft.rfftfreq(near.size, 1 / sample_rate_hz)
    return fft.irfft(spectrum * np.exp(-((frequency / corner_hz) ** 2)), near.size)
