"""How long a room rings: decay times in 1/3-octave bands, and how far they can be trusted."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.dsp import band_edges, power_db
from dolce.core.levels import NOMINAL_HZ, exact_mid_hz
from dolce.core.response import ImpulseResponse
from dolce.errors import InvalidValue

DECAY_BANDS_HZ = tuple(hz for hz in NOMINAL_HZ if 25 <= hz <= 10_000)
DecayKind = Literal["EDT", "T20", "T30"]
# Where the line is laid through the decay, in dB under its start (ISO 3382-1:2009, 3.5 and A.2.2).
_EVALUATED_DB: dict[DecayKind, tuple[float, float]] = {"EDT": (0, -10), "T20": (-5, -25), "T30": (-5, -35)}
_NOISE_BELOW_DB = 10.0  # the noise has to lie so far under the lower end (ISO 3382-1:2009, 5.3.3)
_BT = 4.0  # bandwidth times decay time, filtered backwards (Jacobsen and Rindel, JASA 1987)
# Per mille of non-linearity. ISO 3382-2:2008, B.2, has 10 for means of many; one decay of one band scatters to three
# times that where it is straight (our trials with noise that decays evenly).
_STRAIGHT_XI = 30.0
_USED_AFTER_S = 0.7  # of a kept response: its end is faded


@dataclass(frozen=True, slots=True, kw_only=True)
class DecayTime:
    """One time of one band.

    Attributes
    ----------
    seconds : float or None
        None where the decay can't be followed so far down.
    why_not : "", "noise" (too near), "filter" (the band's own ringing), "bent" (no straight decay)
        Why it is not to be relied on.
    """

    kind: DecayKind
    seconds: float | None
    why_not: Literal["", "noise", "filter", "bent"]


@dataclass(frozen=True, slots=True, kw_only=True)
class BandDecay:
    """Decay times of a third of an octave, and how far the decay stands above the noise."""

    nominal_hz: float
    times: tuple[DecayTime, ...]
    range_db: float

    def __getitem__(self, kind: DecayKind) -> DecayTime:
        return next(time for time in self.times if time.kind == kind)


def decay_times(response: ImpulseResponse, *, arrival_s: float) -> tuple[BandDecay, ...]:
    """EDT, T20 and T30 in 1/3-octave bands from 25 Hz to 10 kHz.

    Bands are filtered backwards in time, so that a decay shorter than the filter's own is not stretched. The decay is
    the squared response summed from its end (M. R. Schroeder, JASA 37, 409-412, 1965), cut where it meets the noise
    (`truncation`), with what was cut off put back as an exponential.

    Raises
    ------
    InvalidValue
        If less than 0.1 s is kept after the arrival.
    """
    rate = response.sample_rate_hz
    spectrum, size, kept_s = _spectrum_of(response, arrival_s)
    return tuple(
        _band_decay(spectrum, size, rate, nominal, float(exact_mid_hz(nominal)), arrival_s - response.start_s, kept_s)
        for nominal in DECAY_BANDS_HZ
        if band_edges(nominal, per_octave=3)[1] < 0.45 * rate
    )


def _spectrum_of(response: ImpulseResponse, arrival_s: float) -> tuple[NDArray, int, float]:
    """Of a response, its length, and how long is kept after the arrival."""
    kept_s = float(response.time_s[-1] - arrival_s)
    if kept_s < 0.1:
        raise InvalidValue(
            f"{max(kept_s, 0) * 1000:.0f} ms are kept after the arrival.",
            where="response",
            remedy="Take it again with silence behind the sweep.",
        )
    size = scipy.fft.next_fast_len(response.sample.size + round(0.2 * response.sample_rate_hz), real=True)
    return scipy.fft.rfft(response.sample, size), size, kept_s


def decays_at(response: ImpulseResponse, frequencies_hz: Sequence[float], *, arrival_s: float) -> list[BandDecay]:
    """As `decay_times`, in bands of 1/3 octave around frequencies of one's own, such as those of modes.

    Raises
    ------
    InvalidValue
        As `decay_times`.
    """
    spectrum, size, kept_s = _spectrum_of(response, arrival_s)
    rate = response.sample_rate_hz
    return [
        _band_decay(spectrum, size, rate, at_hz, at_hz, arrival_s - response.start_s, kept_s)
        for at_hz in frequencies_hz
    ]


def shortest_decay_s(mid_hz: float, *, per_octave: float) -> float:
    """The shortest decay time that a band filtered backwards tells (Jacobsen and Rindel, JASA 1987)."""
    low, high = band_edges(mid_hz, per_octave=per_octave)
    return _BT / float(high - low)


def _band_decay(
    spectrum: NDArray, size: int, rate: float, nominal: float, mid_hz: float, arrival_s: float, kept_s: float
) -> BandDecay:
    power, own_rate = _filtered_power(spectrum, size, rate, mid_hz)
    first = max(0, round(arrival_s * own_rate))
    after = power[first : first + round(min(kept_s, _USED_AFTER_S) * own_rate)]
    cut, noise, late_s = truncation(after, own_rate)
    decay = np.cumsum(after[:cut][::-1])[::-1] / own_rate
    # What an exponential with the late slope would still hold behind the cut.
    decay = decay + _power_at(after, cut, own_rate) * late_s / 13.816
    level = power_db(decay / max(decay[0], 1e-30))
    range_db = float(power_db(after[: max(1, cut // 20)].mean()) - power_db(max(noise, 1e-30)))
    low, high = band_edges(mid_hz, per_octave=3)
    times = tuple(_time(kind, level, own_rate, float(high - low), range_db) for kind in _EVALUATED_DB)
    return BandDecay(nominal_hz=nominal, times=times, range_db=range_db)


def _filtered_power(spectrum: NDArray, size: int, rate: float, mid: float) -> tuple[NDArray, float]:
    """Squared sound of one third of an octave, filtered backwards, at a lower rate where that is enough."""
    low, high = (float(edge) for edge in band_edges(mid, per_octave=3))
    keep = spectrum.size
    while (keep // 2) * rate / size > 3 * high:
        keep //= 2
    points = 2 * (keep - 1)
    samples = scipy.fft.irfft(spectrum[:keep] * _backwards(low, high, rate, keep, rate / size), points) * points / size
    return samples**2, rate * points / size


@cache(64)
def _backwards(low_hz: float, high_hz: float, rate: float, count: int, step_hz: float) -> NDArray:
    """Response of a band's filter (Butterworth, order 3: class 1 of IEC 61260-1), conjugate: it runs backwards."""
    sections = scipy.signal.butter(3, [low_hz, high_hz], "bandpass", fs=rate, output="sos")
    _, gain = scipy.signal.sosfreqz(sections, np.maximum(np.arange(count) * step_hz, 1e-3), fs=rate)
    return np.conj(gain)


def truncation(power: NDArray, rate: float) -> tuple[int, float, float]:
    """Where a decay meets the noise: number of the sample, power of the noise, and the late decay time in s.

    Found by rounds: a line through the smoothed decay, its crossing with the noise, the noise anew from behind the
    crossing.

    References
    ----------
    A. Lundeby, T. E. Vigran, H. Bietz and M. Vorlaender, "Uncertainties of measurements in room acoustics", Acustica
    81, 344-355 (1995).
    """
    block = max(1, round(0.01 * rate))
    for _ in range(6):
        count = max(power.size // block, 1)
        level = power_db(power[: count * block].reshape(count, -1).mean(axis=1)) if count > 1 else power_db(power)
        if count < 6:
            return power.size, 0.0, 0.0
        at = (np.arange(count) + 0.5) * block / rate
        noise = power[-max(block, power.size // 10) :].mean()
        start = int(np.argmax(level))
        slope, height = _late_line(at, level, start, float(power_db(noise)))
        if slope >= 0:
            return power.size, float(noise), 0.0
        crossing = (float(power_db(noise)) - height) / slope
        for _ in range(5):
            # Noise from 5 dB of decay behind the crossing on, at least the last tenth.
            begin = min(round((crossing - 5 / slope) * rate), power.size - max(block, power.size // 10))
            noise = power[max(begin, 0) :].mean()
            slope, height = _late_line(at, level, start, float(power_db(noise)))
            if slope >= 0:
                return power.size, float(noise), 0.0
            moved = (float(power_db(noise)) - height) / slope
            if abs(moved - crossing) < block / rate / 4:
                break
            crossing = moved
        finer = max(1, round(rate * 10 / -slope / 5))  # five blocks for each 10 dB of decay
        if abs(finer - block) <= block // 5:
            break
        block = finer
    cut = int(np.clip(round(crossing * rate), 2, power.size))
    return cut, float(noise), float(-60 / slope)


def _power_at(power: NDArray, cut: int, rate: float) -> float:
    """Power of a decay where it was cut, over the last 20 ms before."""
    return float(power[max(0, cut - round(0.02 * rate)) : cut].mean()) if cut < power.size else 0.0


def _late_line(at: NDArray, level: NDArray, start: int, noise_db: float) -> tuple[float, float]:
    """Slope and height of the decay from its top down to 8 dB above the noise."""
    below = np.flatnonzero(level[start:] < noise_db + 8)
    end = start + (int(below[0]) if below.size else level.size - start)
    if end - start < 3:
        end = min(start + 3, level.size)
    if end - start < 2:
        return 0.0, float(level[start])
    slope, height = np.polyfit(at[start:end], level[start:end], 1)
    return float(slope), float(height)


def _time(kind: DecayKind, level: NDArray, rate: float, width_hz: float, range_db: float) -> DecayTime:
    top, bottom = _EVALUATED_DB[kind]
    if range_db < _NOISE_BELOW_DB - bottom or level[-1] > bottom:
        return DecayTime(kind=kind, seconds=None, why_not="noise")
    first, last = int(np.argmax(level <= top)), int(np.argmax(level <= bottom))
    if last - first < 2:
        return DecayTime(kind=kind, seconds=None, why_not="filter")
    at = np.arange(first, last + 1) / rate
    slope, height = np.polyfit(at, level[first : last + 1], 1)
    seconds = float(-60 / slope)
    if width_hz * seconds < _BT:
        return DecayTime(kind=kind, seconds=seconds, why_not="filter")
    residual = level[first : last + 1] - (slope * at + height)
    xi = 1000 * float(np.sum(residual**2) / np.sum((level[first : last + 1] - level[first : last + 1].mean()) ** 2))
    return DecayTime(kind=kind, seconds=seconds, why_not="bent" if kind != "EDT" and xi > _STRAIGHT_XI else "")
