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

_REACH_DB = 10.0          # a speaker's bottom end this far below the target is not asked for more
_RESTLESS_DB = 4.0        # spread over the spots that makes a dip a matter of place
_DEEP_DB = 6.0            # a dip deeper than this ...
_NARROW_OCTAVES = 1 / 3   # ... and narrower than this is a cancellation
_TRUST_DB = 5.0           # spread at which half of the correction is asked for


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
                    limits: Limits) -> CorrectionPlan:
    """Decide for every frequency what may be asked of the filters.

    Parameters
    ----------
    frequency_hz, average_db, spread_db, target_db : ndarray, shape (points,)
        The average over the spots (smoothed), its standard deviation, and the target at its level.

    Notes
    -----
    Peaks are cut, less so where the spots disagree: what one spot has too much of, another has not. Dips are filled
    up to the limit, except those that move between spots, those that are deep and narrow (a cancellation: the boost
    is cancelled too), and the end of the speaker's reach. These rest on L. D. Fielder, "Analysis of traditional and
    reverberation-reducing methods of room equalization", JAES 51, 3-26 (2003), and common practice.
    """
    excess = average_db - target_db
    inside = (frequency_hz >= limits.from_hz) & (frequency_hz <= limits.to_hz)
    beyond_reach = _beyond_reach(frequency_hz, excess)
    cancelled = _deep_and_narrow(frequency_hz, excess) & inside
    restless = (excess < -1.5) & (spread_db > _RESTLESS_DB) & inside & ~cancelled & ~beyond_reach
    restless = _without_slivers(restless)
    trust = 1 / (1 + (spread_db / _TRUST_DB) ** 2)
    wished = np.clip(-excess * np.sqrt(trust), -limits.max_cut_db, limits.max_boost_db)
    forbidden = beyond_reach | cancelled | restless
    wished = np.where(forbidden, np.minimum(wished, 0), wished)
    wished = np.where(inside, wished, 0.0)
    # In a dip that is left alone the filters only must not boost; whether a wide cut runs through it matters little.
    weight = np.where(inside, np.where(cancelled | restless, 0.25, trust), 0.0)
    weight = np.where(beyond_reach & inside, 0.15, weight)
    stretches = _stretches(frequency_hz, inside, beyond_reach, cancelled, restless, excess, spread_db, limits)
    return CorrectionPlan(frequency_hz=frequency_hz, wished_db=wished, weight=weight, stretches=stretches)


def _beyond_reach(frequency_hz: NDArray, excess: NDArray) -> NDArray:
    """True from the bottom up to where the response first comes within 10 dB of the target, below 200 Hz."""
    near = np.flatnonzero((excess > -_REACH_DB) | (frequency_hz > 200))
    mask = np.zeros(excess.size, dtype=bool)
    mask[: near[0] if near.size else 0] = True
    return mask


def _deep_and_narrow(frequency_hz: NDArray, excess: NDArray) -> NDArray:
    """True over each dip of 6 dB below its surroundings whose half-depth width is below a third of an octave."""
    octave = np.log2(frequency_hz)
    step = float(np.median(np.diff(octave)))
    reach = max(2, round(0.5 / step))
    padded = np.pad(excess, reach, mode="edge")
    window = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    surroundings = np.median(window, axis=1)
    depth = surroundings - excess
    mask = np.zeros(excess.size, dtype=bool)
    for first, last in _runs(depth > _DEEP_DB / 2):
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
