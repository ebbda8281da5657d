"""Which stretches to correct, which only to cut, which to leave alone, and the correction wished for."""

from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.errors import InvalidValue

Verdict = Literal["correct", "only cut", "leave"]
Kind = Literal["outside", "beyond reach", "cancelled", "restless", "fair"]

# What may be asked of the filters in a stretch of each kind; in this order where several would fit.
_VERDICTS: dict[Kind, Verdict] = {"outside": "leave", "beyond reach": "only cut", "cancelled": "leave",
                                  "restless": "only cut", "fair": "correct"}
_KINDS: tuple[Kind, ...] = tuple(_VERDICTS)

MEAN_BAND_HZ = (200.0, 2000.0)   # what the level of a channel is told by

_REACH_DB = 10.0          # a speaker's bottom end this far below the target is not asked for more
_REACH_OCTAVES = 1.0      # over so much at least: a mode's null further up is not the end
_REACH_FROM_HZ = 200.0    # looked for from here downward
_RESTLESS_DB = 8.0        # spread over the spots that makes a dip a matter of place
_DEEP_DB = 12.0           # a dip of all spots deeper than this ...
_SHOULDER_DB = 2.0        # down to which its shoulders belong to it
_NARROW_OCTAVES = 1 / 3   # ... and narrower than this is a cancellation
_TRUST_DB = 4.0           # what corrections of rooms are about, before anything is measured (standard deviation)
_STILL_WANTED_DB = 3.0    # beyond the largest boost: what lacks more is filled first
_FAINT_DB = 10.0          # where the target lies this far below its own middle there is next to nothing to hear
_FAINT_WEIGHT = 0.2


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """What the correction may do.

    Attributes
    ----------
    from_hz, to_hz : float
        Range to correct, at least a third of an octave wide, 10 Hz to 20 kHz.
    max_boost_db, max_cut_db : float
        0 to 12, 0 to 24; for the sum of all bands.
    min_q, max_q : float
        0.2 to 20.
    bands : int
        1 to 31.
    """

    from_hz: float = limited(10, 20_000, where="range from", unit="Hz", default=20.0)
    to_hz: float = limited(10, 20_000, where="range to", unit="Hz", default=500.0)
    max_boost_db: float = limited(0, 12, where="largest boost", unit="dB", default=3.0)
    max_cut_db: float = limited(0, 24, where="largest cut", unit="dB", default=12.0)
    min_q: float = limited(0.2, 20, where="Q from", default=0.7)
    max_q: float = limited(0.2, 20, where="Q to", default=10.0)
    bands: int = limited(1, 31, where="bands", whole=True, default=10)

    def __post_init__(self) -> None:
        ranges(self)
        if self.to_hz < self.from_hz * 2 ** (1 / 3):
            raise InvalidValue(f"{self.from_hz:g} to {self.to_hz:g} Hz is upside down or too narrow.", where="range to",
                               remedy=f"End at {self.from_hz * 2 ** (1 / 3):.0f} Hz or above.")
        if self.max_q <= self.min_q:
            raise InvalidValue(f"Q {self.min_q:g} to {self.max_q:g} is upside down.", where="Q to",
                               remedy="End above the start.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretch:
    """A stretch of frequency of one kind, and what is lowest in it.

    Attributes
    ----------
    kind : "outside" (the range), "beyond reach" (of the speaker), "cancelled", "restless" (between spots) or "fair"
    lowest_hz, under_target_db : float
        Where the average is lowest against the target, and how far under it.
    spread_db : float
        Largest standard deviation over the spots.
    """

    from_hz: float
    to_hz: float
    kind: Kind
    lowest_hz: float
    under_target_db: float
    spread_db: float

    @property
    def verdict(self) -> Verdict:
        """What may be asked of the filters here."""
        return _VERDICTS[self.kind]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CorrectionPlan:
    """The correction wished for, in dB, its weight, and the verdicts; arrays of shape (points,)."""

    frequency_hz: NDArray[np.float64]
    wished_db: NDArray[np.float64]
    weight: NDArray[np.float64]
    stretches: tuple[Stretch, ...]

    @property
    def left_alone(self) -> tuple[Stretch, ...]:
        """The stretches inside the range that get no boost."""
        return tuple(s for s in self.stretches if s.kind not in ("outside", "fair"))


def plan_correction(frequency_hz: NDArray, average_db: NDArray, spread_db: NDArray, target_db: NDArray, *,
                    limits: Limits, spots: float = 1.0) -> CorrectionPlan:
    """Decide for every frequency what may be asked of the filters.

    Parameters
    ----------
    frequency_hz, average_db, spread_db, target_db : ndarray, shape (points,)
        The mean in dB over the spots (smoothed), their standard deviation, and the target at its level.
    spots : float
        How many the mean is of.

    Notes
    -----
    Peaks are cut and dips are filled. A dip that lacks more than the largest boost keeps up to 3 dB of what it lacks in
    the wish: the limit holds for the bands, and where little can be had it counts most. Where spots disagree, their
    mean says less of places that were not measured: the wish shrinks by t^2 / (t^2 + s^2 / n), the estimate of least
    error for n spots with a spread of s where corrections of rooms have one of t (W. James and C. Stein, 4th Berkeley
    Symposium, 1961; t is our own).

    No boost is asked for beyond the end of the speaker's reach, in dips that are deep and narrow at all spots (a
    cancellation: the boost is cancelled too), and in those that stand elsewhere at every spot. After L. D. Fielder,
    "Analysis of traditional and reverberation-reducing methods of room equalization", JAES 51, 3-26 (2003). Shallower
    dips are filled: on simulated rooms that helped at spots that were left out, and forbidding it cost a tenth of what
    can be gained.
    """
    excess = average_db - target_db
    inside = (frequency_hz >= limits.from_hz) & (frequency_hz <= limits.to_hz)
    beyond_reach = _beyond_reach(frequency_hz, excess)
    cancelled = _deep_and_narrow(frequency_hz, excess) & inside
    restless = (excess < -1.5) & (spread_db > _RESTLESS_DB) & inside & ~cancelled & ~beyond_reach
    restless = _without_slivers(restless)
    trust = _TRUST_DB**2 / (_TRUST_DB**2 + spread_db**2 / max(spots, 1.0))
    wished = np.clip(-excess * trust, -limits.max_cut_db, limits.max_boost_db + _STILL_WANTED_DB)
    no_boost = beyond_reach | cancelled | restless
    wished = np.where(inside, np.where(no_boost, np.minimum(wished, 0), wished), 0.0)
    weight = np.where(inside, np.where(_faint(frequency_hz, target_db), _FAINT_WEIGHT, 1.0), 0.0)
    stretches = _stretches(frequency_hz, inside, beyond_reach, cancelled, restless, excess, spread_db, limits)
    return CorrectionPlan(frequency_hz=frequency_hz, wished_db=wished, weight=weight, stretches=stretches)


def _faint(frequency_hz: NDArray, target_db: NDArray) -> NDArray:
    """True where the target itself wants next to nothing against its mean over 200-2000 Hz: nothing is gained there."""
    middle = (frequency_hz >= MEAN_BAND_HZ[0]) & (frequency_hz <= MEAN_BAND_HZ[1])
    return target_db < (target_db[middle] if middle.any() else target_db).mean() - _FAINT_DB


def _beyond_reach(frequency_hz: NDArray, excess: NDArray) -> NDArray:
    """True below the highest place under 200 Hz from which on the response stays 10 dB below the target for an
    octave, or down to its end."""
    octave = np.log2(frequency_hz)
    ends = [last for first, last in _runs(excess < -_REACH_DB)
            if frequency_hz[last - 1] <= _REACH_FROM_HZ
            and (first == 0 or octave[last - 1] - octave[first] >= _REACH_OCTAVES)]
    mask = np.zeros(excess.size, dtype=bool)
    mask[: max(ends, default=0)] = True
    return mask


def _deep_and_narrow(frequency_hz: NDArray, excess: NDArray) -> NDArray:
    """True over each dip of 12 dB below its surroundings whose half-depth width is below a third of an octave."""
    octave = np.log2(frequency_hz)
    step = float(np.median(np.diff(octave)))
    reach = max(2, round(0.5 / step))
    padded = np.pad(excess, reach, mode="edge")
    window = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    surroundings = np.median(window, axis=1)
    depth = surroundings - excess
    mask = np.zeros(excess.size, dtype=bool)
    for first, last in _runs(depth > _SHOULDER_DB):
        deepest = first + int(np.argmax(depth[first:last]))
        half = depth[deepest] / 2
        low, high = deepest, deepest
        while low > 0 and depth[low - 1] > half:
            low -= 1
        while high < depth.size - 1 and depth[high + 1] > half:
            high += 1
        if depth[deepest] > _DEEP_DB and octave[high] - octave[low] < _NARROW_OCTAVES:
            mask[first:last] = True
    return mask


def _without_slivers(mask: NDArray, *, points: int = 4) -> NDArray:
    """The mask without runs of fewer than `points` points (a twelfth of an octave)."""
    kept = mask.copy()
    for first, last in _runs(mask):
        if last - first < points:
            kept[first:last] = False
    return kept


def _runs(mask: NDArray) -> list[tuple[int, int]]:
    """First and last-plus-one index of each run of True."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def _stretches(frequency_hz: NDArray, inside: NDArray, beyond_reach: NDArray, cancelled: NDArray, restless: NDArray,
               excess: NDArray, spread_db: NDArray, limits: Limits) -> tuple[Stretch, ...]:
    """Neighbouring points of one kind joined into stretches."""
    kind = np.select([~inside, beyond_reach, cancelled, restless], range(4), default=4)
    bounds = [0, *(np.flatnonzero(np.diff(kind)) + 1).tolist(), kind.size]
    out = []
    for first, last in pairwise(bounds):
        lowest = first + int(np.argmin(excess[first:last]))
        out.append(Stretch(from_hz=float(frequency_hz[first]), to_hz=float(frequency_hz[last - 1]),
                           kind=_KINDS[kind[first]], lowest_hz=float(frequency_hz[lowest]),
                           under_target_db=float(-excess[lowest]), spread_db=float(spread_db[first:last].max())))
    return tuple(out)
