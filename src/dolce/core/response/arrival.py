"""When the direct sound arrives, and with which polarity."""

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import all_pass_response, delay_response, faded, in_band, raised_cosine, vertex
from dolce.core.response.impulse import ImpulseResponse

Polarity = Literal["normal", "inverted", "unsure"]

_ONSET = 0.4  # the direct sound is the first peak above this part of the highest one
_WINDOW = 512  # samples looked at around the onset
_FINER = 32  # interpolation between samples
_UNSURE_BELOW = 0.86  # a turn of 90 degrees at all frequencies, which is neither, agrees to 0.85
_POLARITY_BAND_HZ = (300.0, 1200.0)
_POLARITY_FROM_S, _POLARITY_TO_S = 0.0015, 0.004  # ahead of the arrival and behind it, faded
_POLARITY_DELAYS_S = np.arange(-0.05e-3, 0.9e-3, 0.01e-3)
# So late comes a woofer after its tweeter, and hardly ever so late: between them phases must agree ever better, and
# beyond it is another crossover that turns the phase in that band.
_LATE_WOOFER_S = (0.30e-3, 0.42e-3)
_LATE_MUST_AGREE = 0.97
_BELOW_BAND_HZ, _BELOW_TO_S, _BELOW_OPPOSITE = (160.0, 300.0), 0.006, -0.3
_LOWER_CROSSOVERS_HZ = (250.0, 280.0, 315.0, 355.0, 400.0, 450.0, 500.0, 560.0, 630.0)
_THREE_WAY_DELAYS_S = np.arange(0.0, 0.3e-3, 0.02e-3)
_CLEARLY_BETTER, _THREE_WAY_FROM = 0.12, 0.9
_POLARITY_ABOVE = 10.0  # energy against what was there before the arrival


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
    place = peak + float(vertex(*np.abs(fine[peak - 1 : peak + 2])))
    time_s = response.start_s + (first + place / _FINER) / response.sample_rate_hz

    balance = _woofer_balance(response, time_s)
    confidence = abs(balance)
    polarity: Polarity = "unsure" if confidence < _UNSURE_BELOW else "normal" if balance > 0 else "inverted"
    return Arrival(time_s=float(time_s), polarity=polarity, confidence=float(confidence))


def _woofer_balance(response: ImpulseResponse, arrival_s: float) -> float:
    """How far the direct sound pushes (1) or pulls (-1) where the woofer plays; 0 where it doesn't tell.

    Read from 300 Hz to 1.2 kHz in the first 4 ms: below a crossover, where its phase is no more than a delay of up to
    0.4 ms against the tweeter, and above what a cabinet turns at its bottom end. That delay is the one at which the
    phases of all frequencies agree best.

    A three-way speaker has its lower crossover in this band, and turns by half a circle there: that shows as a longer
    delay, or as phases an octave further down that say the opposite. Then see `_three_way_balance`; its answer counts
    where it turns over the first one, as it must.
    """
    main = _phases(response, arrival_s, _POLARITY_BAND_HZ, _POLARITY_TO_S)
    if main is None:
        return 0.0
    agree = main.at_delays(_POLARITY_DELAYS_S)
    best = int(np.argmax(np.abs(agree)))
    late_s, balance = _POLARITY_DELAYS_S[best], float(agree[best])
    needed = np.interp(late_s, _LATE_WOOFER_S, (_UNSURE_BELOW, _LATE_MUST_AGREE), right=np.inf)
    octave_down = _phases(response, arrival_s, _BELOW_BAND_HZ, _BELOW_TO_S)
    below = 0.0 if octave_down is None else float(octave_down.at_delays(np.array([late_s]))[0] * np.sign(balance))
    if abs(balance) >= needed and below >= 0:
        return balance
    if below > _BELOW_OPPOSITE:
        return 0.0 if abs(balance) >= _UNSURE_BELOW else balance
    turned = _three_way_balance(response, arrival_s)
    return turned if turned * balance < 0 else 0.0


def _three_way_balance(response: ImpulseResponse, arrival_s: float) -> float:
    """The same of a speaker with a lower crossover somewhere from 250 to 630 Hz, read from 160 Hz to 1.2 kHz.

    Of all corners and delays those count under which the phases agree best; 0 where they don't agree well, or where
    the other polarity explains them nearly as well.
    """
    wide = _phases(response, arrival_s, (_BELOW_BAND_HZ[0], _POLARITY_BAND_HZ[1]), _BELOW_TO_S)
    if wide is None:
        return 0.0
    agree = np.array(
        [
            # Both sides of a Linkwitz-Riley crossover of 24 dB per octave add up to this all-pass.
            wide.through(all_pass_response(corner, np.sqrt(0.5), wide.frequency_hz)).at_delays(_THREE_WAY_DELAYS_S)
            for corner in _LOWER_CROSSOVERS_HZ
        ]
    )
    push, pull = float(agree.max()), float(-agree.min())
    if abs(push - pull) < _CLEARLY_BETTER or max(push, pull) < _THREE_WAY_FROM:
        return 0.0
    return push if push > pull else -pull


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Phases:
    """Direct sound in a band: its lines, and how much each counts."""

    frequency_hz: NDArray[np.float64]
    spectrum: NDArray[np.complex128]
    weight: NDArray[np.float64]

    def through(self, response: NDArray) -> "_Phases":
        """What was there before it went through an all-pass."""
        return replace(self, spectrum=self.spectrum * np.conj(response))

    def at_delays(self, delays_s: NDArray) -> NDArray[np.float64]:
        """How far all lines push at once, -1 to 1, if the sound came later by each of some delays."""
        return (
            np.real(delay_response(self.frequency_hz, -delays_s) * self.spectrum)
            @ self.weight
            / np.sum(self.weight * np.abs(self.spectrum))
        )


def _phases(response: ImpulseResponse, arrival_s: float, band_hz: tuple[float, float], to_s: float) -> _Phases | None:
    """The first part of the direct sound in a band; None where what was there before says as much."""
    rate = response.sample_rate_hz
    here = response.between(arrival_s - _POLARITY_FROM_S, arrival_s + to_s)
    before = response.between(arrival_s - to_s - 2 * _POLARITY_FROM_S, arrival_s - _POLARITY_FROM_S)
    near = response.start_s + np.arange(here.start, here.stop) / rate - arrival_s
    window = raised_cosine(1 - np.abs(near) / np.where(near < 0, _POLARITY_FROM_S, to_s))
    size = scipy.fft.next_fast_len(max(4 * near.size, round(rate / 5)), real=True)
    frequency = scipy.fft.rfftfreq(size, 1 / rate)
    low, high = band_hz
    band = in_band(frequency, (low, high))
    if near.size < 8 or not band.any():
        return None
    f = frequency[band]
    spectrum = scipy.fft.rfft(response.sample[here] * window, size)[band] * np.exp(-2j * np.pi * f * near[0])
    # Every octave alike, the middle ones most.
    weight = np.exp(-((np.log2(f / np.sqrt(low * high)) / (np.log2(high / low) / 2)) ** 2)) / f
    quiet = response.sample[before]
    there = np.sum(weight * np.abs(scipy.fft.rfft(quiet, size)[band]) ** 2) * near.size / max(quiet.size, 1)
    if np.sum(weight * np.abs(spectrum) ** 2) < _POLARITY_ABOVE * there:
        return None
    return _Phases(frequency_hz=f, spectrum=spectrum, weight=weight)


def _direct_part(response: ImpulseResponse) -> tuple[NDArray, int]:
    """The samples around the onset, and the index of the first of them."""
    sample = response.sample
    # Local maximum of |h| over 8 samples stands in for the envelope: cheap on the whole length.
    magnitude = np.abs(sample)
    highest = magnitude.max()
    onset = int(np.argmax(magnitude >= _ONSET * highest))
    first = min(max(0, onset - _WINDOW // 2), max(0, sample.size - _WINDOW))
    return sample[first : first + _WINDOW], first


def _interpolated(near: NDArray) -> NDArray:
    """`near` on a grid 32 times finer, its ends faded so that the period does not show."""
    spectrum = scipy.fft.rfft(faded(near, rising=near.size // 8, falling=near.size // 8))
    spectrum[-1] *= 0.5
    return scipy.fft.irfft(spectrum, near.size * _FINER) * _FINER


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
