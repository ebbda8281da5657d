"""Early reflections of a loudspeaker at the spots of a seat: when, how loud, and from where."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import in_band, mid_bands, power_db, raised_cosine
from dolce.core.reading.energy import TimeCurve
from dolce.core.response import ImpulseResponse

EARLY_HZ = (1000.0, 8000.0)
EARLY_DB, EARLY_MS = -10.0, 15.0
SHOWN_MS = 30.0
_BEFORE_S, _AFTER_S = 0.004, 0.036
_FADE_OCTAVES = 0.25
_LOWEST_DB = -26.0  # of a peak against the direct sound; what is softer is not listed
_APART_S = 0.0004
_DIRECT_S = 0.0006  # the direct sound's own width in that band
_BESIDE_S, _BESIDE_PART = 0.0003, 0.02  # how far from where the plan has it a peak may lie
_MOST_SPOTS = 0.5
_WINDOW_S = (0.0005, 0.001)  # before and after a reflection, by which its 1/3 octaves are told
_THIRDS_HZ = mid_bands(per_octave=3, from_hz=2000.0, to_hz=8000.0)
_UNKNOWN_DB = -15.0  # a peak of no known surface is listed from here on
_FEWEST_PLACES = 4  # by which a direction is told


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class EarlySound:
    """The first milliseconds at one spot, 1 to 8 kHz.

    Attributes
    ----------
    curve : TimeCurve
        Energy in dB, 0 for the direct sound, from the arrival.
    later_s, level_db : ndarray, shape (peaks,)
        Peaks after the direct sound.
    """

    curve: TimeCurve
    later_s: NDArray[np.float64]
    level_db: NDArray[np.float64]
    sample: NDArray[np.float64]
    sample_rate_hz: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Reflection:
    """One reflection at a seat.

    Attributes
    ----------
    surface : str
        The likely one; empty where no surface of the plan explains it.
    later_s, level_db : float
        After the direct sound and against it, 1 to 8 kHz; mean over the spots that show it.
    expected_s : float or None
        Where the plan has it, mean over those spots.
    spots, of_spots : int
        At how many of the seat's spots it is seen.
    worst_hz, worst_db : float or None
        The 1/3 octave in which it is loudest against the direct sound; None where both can't be parted.
    off_deg : float or None
        Angle between where it comes from by its arrivals at the spots and where the plan has it; None where these are
        too few, or lie in one line.
    """

    surface: str
    later_s: float
    level_db: float
    expected_s: float | None
    spots: int
    of_spots: int
    worst_hz: float | None
    worst_db: float | None
    off_deg: float | None = None

    def breaks(self, *, within_ms: float = EARLY_MS, below_db: float = EARLY_DB) -> bool:
        """Whether it is louder than a criterion wants it so early."""
        return 1000 * self.later_s <= within_ms and self.level_db > below_db


def early_sound(response: ImpulseResponse, *, arrival_s: float) -> EarlySound:
    """The first 30 ms of a response after its arrival.

    References
    ----------
    The envelope: R. C. Heyser, JAES 15, 370-382 (1967). The band: EBU Tech 3276, 2nd ed. (1998), asks that reflections
    of the first 15 ms lie 10 dB below the direct sound from 1 to 8 kHz (edition and clause from memory).
    """
    rate = response.sample_rate_hz
    part = response.between(arrival_s - _BEFORE_S, arrival_s + _AFTER_S)
    sample = response.sample[part].astype(np.float64)
    time = response.time_s[part] - arrival_s
    size = scipy.fft.next_fast_len(2 * sample.size, real=True)
    at = scipy.fft.rfftfreq(size, 1 / rate)
    octaves = np.log2(np.maximum(at, 1.0))
    passed = raised_cosine((octaves - np.log2(EARLY_HZ[0]) + _FADE_OCTAVES) / _FADE_OCTAVES) * raised_cosine(
        (np.log2(EARLY_HZ[1]) + _FADE_OCTAVES - octaves) / _FADE_OCTAVES
    )
    sample = scipy.fft.irfft(scipy.fft.rfft(sample, size) * passed, size)[: sample.size]
    envelope = np.abs(scipy.signal.hilbert(sample)) ** 2
    direct = np.abs(time) < _DIRECT_S
    level = power_db(envelope / max(float(envelope[direct].max(initial=0.0)), 1e-30))
    peaks, _ = scipy.signal.find_peaks(
        level, height=_LOWEST_DB, distance=max(1, round(_APART_S * rate)), prominence=2.0
    )
    peaks = peaks[(time[peaks] > _DIRECT_S) & (time[peaks] < SHOWN_MS / 1000)]
    shown = (time > -0.002) & (time < SHOWN_MS / 1000)
    return EarlySound(
        curve=TimeCurve(time_s=time[shown], value=np.maximum(level[shown], -60.0)),
        later_s=time[peaks],
        level_db=level[peaks],
        sample=sample,
        sample_rate_hz=rate,
    )


def early_reflections(
    heard: Sequence[EarlySound],
    expected_s: Mapping[str, NDArray[np.float64]],
    *,
    places_m: NDArray[np.float64] | None = None,
    from_m: Mapping[str, NDArray[np.float64]] | None = None,
    direct_s: NDArray[np.float64] | None = None,
    speed_m_s: float = 343.0,
) -> list[Reflection]:
    """Reflections that most spots of a seat show, the earliest first.

    Parameters
    ----------
    heard : sequence of EarlySound, one for each spot, the one nearest to the seat's middle first
    expected_s : of each surface of the plan, shape (spots,): how much later its reflection comes; infinite for none
    places_m : ndarray, shape (spots, 3), and `from_m` of each surface, shape (spots, 3), and `direct_s`, shape (spots,)
        Where the spots are, where the mirror image stands, and how long the direct sound travels; for directions.

    Notes
    -----
    A peak is a surface's where it lies within 0.3 ms and 2 % of where the plan has it, at half of the spots or more. A
    direction follows from the arrivals over the spots, as of a plane wave, by least squares. Our own rules.
    """
    found, used = [], np.zeros(heard[0].later_s.size, dtype=bool)
    for surface, expected in expected_s.items():
        at = [_nearest(sound, float(later)) for sound, later in zip(heard, expected, strict=True)]
        spots = [k for k, peak in enumerate(at) if peak is not None]
        reached = int(np.isfinite(expected).sum())
        if not reached or len(spots) < _MOST_SPOTS * reached or not spots:
            continue
        later = np.array([heard[k].later_s[at[k]] for k in spots])
        level = np.array([heard[k].level_db[at[k]] for k in spots])
        if at[0] is not None:
            used[at[0]] = True
        off = None
        if places_m is not None and from_m is not None and direct_s is not None:
            off = _off_deg(places_m[spots], direct_s[spots] + later, from_m[surface][spots], speed_m_s)
        found.append(_reflection(surface, heard[spots[0]], later, level, float(np.mean(expected[spots])), reached, off))
    first = heard[0]
    for peak in np.flatnonzero(~used & (first.level_db > _UNKNOWN_DB)):
        near = [_nearest(sound, float(first.later_s[peak])) for sound in heard]
        seen = [k for k, other in enumerate(near) if other is not None]
        if len(seen) < _MOST_SPOTS * len(heard):
            continue
        later = np.array([heard[k].later_s[near[k]] for k in seen])
        level = np.array([heard[k].level_db[near[k]] for k in seen])
        found.append(_reflection("", first, later, level, None, len(heard), None))
    return sorted(found, key=lambda reflection: reflection.later_s)


def _nearest(sound: EarlySound, later_s: float) -> int | None:
    """The strongest peak where one is expected; None for none."""
    if not np.isfinite(later_s) or not sound.later_s.size:
        return None
    near = np.flatnonzero(np.abs(sound.later_s - later_s) < _BESIDE_S + _BESIDE_PART * later_s)
    return int(near[np.argmax(sound.level_db[near])]) if near.size else None


def _reflection(
    surface: str,
    sound: EarlySound,
    later_s: NDArray,
    level_db: NDArray,
    expected_s: float | None,
    of_spots: int,
    off_deg: float | None,
) -> Reflection:
    worst_hz, worst_db = _thirds(sound, float(later_s[0]))
    return Reflection(
        surface=surface,
        later_s=float(later_s.mean()),
        level_db=float(power_db(np.mean(10 ** (level_db / 10)))),
        expected_s=expected_s,
        spots=later_s.size,
        of_spots=of_spots,
        worst_hz=worst_hz,
        worst_db=worst_db,
        off_deg=off_deg,
    )


def _thirds(sound: EarlySound, later_s: float) -> tuple[float | None, float | None]:
    """The 1/3 octave in which a reflection is loudest against the direct sound, and by how much."""
    if later_s < sum(_WINDOW_S):
        return None, None
    rate, before = sound.sample_rate_hz, round(_BEFORE_S * sound.sample_rate_hz)
    ahead, behind = (round(part * rate) for part in _WINDOW_S)
    window = scipy.signal.windows.tukey(ahead + behind, 0.5)
    size = 2048
    powers = []
    for at in (before, before + round(later_s * rate)):
        piece = sound.sample[at - ahead : at + behind]
        if piece.size < window.size:
            return None, None
        powers.append(np.abs(scipy.fft.rfft(piece * window, size)) ** 2)
    bins = scipy.fft.rfftfreq(size, 1 / rate)
    ratio = [
        float(power_db(powers[1][inside].sum() / powers[0][inside].sum()))
        for inside in (in_band(bins, (f / 2 ** (1 / 6), f * 2 ** (1 / 6))) for f in _THIRDS_HZ)
    ]
    k = int(np.argmax(ratio))
    return float(_THIRDS_HZ[k]), ratio[k]


def _off_deg(places_m: NDArray, arrival_s: NDArray, image_m: NDArray, speed_m_s: float) -> float | None:
    """Angle between where a wave comes from by its arrivals at places, and where a mirror image stands."""
    around = places_m - places_m.mean(axis=0)
    _, spread, axes = np.linalg.svd(around, full_matrices=False)
    known = int(np.sum(spread > 0.15))  # metres over all places: less tells no slope
    if len(places_m) < _FEWEST_PLACES or known < 2:
        return None
    basis = axes[:known]
    slope, *_ = np.linalg.lstsq(around @ basis.T, arrival_s - arrival_s.mean(), rcond=None)
    measured = -slope * speed_m_s  # toward the source, within the plane of the places
    expected = basis @ (image_m - places_m).mean(axis=0)
    lengths = np.linalg.norm(measured) * np.linalg.norm(expected)
    return float(np.degrees(np.arccos(np.clip(measured @ expected / lengths, -1, 1)))) if lengths > 1e-9 else None
