"""Which regions to correct, which only to cut, which to leave or to mend otherwise, and the desired correction."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.core.correction.evidence import Needs
from dolce.core.correction.limits import Limits
from dolce.core.correction.target import MEAN_BAND_HZ
from dolce.core.dsp import in_band
from dolce.errors import InvalidValue

Verdict = Literal["correct", "only cut", "leave", "move something"]
VERDICTS: tuple[Verdict, ...] = ("correct", "only cut", "leave", "move something")
Kind = Literal[
    "outside",
    "overruled",
    "beyond reach",
    "cancelled",
    "filled",
    "no gain",
    "loud",
    "good enough",
    "fair",
    "skirt",
    "reached",
]

# What follows for the filters from each kind; "no gain" of a dip is only cut, of a hill it is left.
_VERDICTS: dict[Kind, Verdict] = {
    "outside": "leave",
    "beyond reach": "only cut",
    "cancelled": "move something",
    "no gain": "leave",
    "loud": "only cut",
    "good enough": "leave",
    "fair": "correct",
    "filled": "correct",
    "skirt": "correct",
    "reached": "correct",
}

LEAVE_DB = 1.0  # what filters may do in a region that is left or mended otherwise, skirts of neighbours
ONLY_CUT_DB = 0.5  # and what they may add where they only cut
_EXTENSION_DB = 10.0  # a speaker's bottom end this far below the target is not asked for more
_EXTENSION_OCTAVES = 1.0  # over so much at least: a mode's null further up is not the end
_EXTENSION_FROM_HZ = 200.0  # looked for from here downward
DEEP_DB = 12.0  # a dip of all spots deeper than this ...
_SHOULDER_DB = 2.0  # down to which its shoulders belong to it
NARROW_OCTAVES = 1 / 3  # ... and narrower than this is a cancellation
_STILL_WANTED_DB = 3.0  # beyond the largest boost: what lacks more is filled first
LOUD_DB = 3.0  # the energy average of the spots is cut to this above the target, whatever single spots say
LEAST_SHARE = 0.3  # of a hill: where a channel plays less of it, the others are to cut it
_LOUD_TO_HZ = 200.0  # modes stand alone below; above, hills of the average change from spot to spot
_UNHEARD_DB = -100.0  # and how loud a hill counts there
_LEAST_UP_DB = 1.0  # there filters may still add so much, as their skirts do
_WORTH_FILLING_DB = 0.5  # a cancellation by whose filling spots left out gain more is filled within the limits
_FAINT_DB = 10.0  # where the target lies this far below its own middle there is next to nothing to hear
_FAINT_WEIGHT = 0.2
_SHORTEST_OCTAVES = 0.08  # shorter regions belong to their neighbours


@dataclass(frozen=True, slots=True, kw_only=True)
class Overruled:
    """A verdict that a calibrator gave a region of one channel, and why."""

    from_hz: float = limited(5, 24_000, where="from", unit="Hz")
    to_hz: float = limited(5, 24_000, where="to", unit="Hz")
    verdict: Verdict
    reason: str

    def __post_init__(self) -> None:
        ranges(self)
        checked.text(self.reason, longest=200, where="reason")
        if not self.reason.strip():
            raise InvalidValue(
                "a verdict of your own needs a reason.",
                where="reason",
                remedy="Say in a few words what you know better.",
            )
        if self.to_hz <= self.from_hz:
            raise InvalidValue(
                f"{self.from_hz:g} to {self.to_hz:g} Hz is upside down.", where="to", remedy="End above the start."
            )


@dataclass(frozen=True, slots=True, kw_only=True)
class Region:
    """A frequency region that lies on one side of the target, with what speaks for its verdict.

    Attributes
    ----------
    kind : why it has its verdict. "loud" is a hill that spots left out don't gain by, but the average shows; "filled"
        is a cancellation that they gain by filling; "skirt" and "reached" are where filters do more than was planned
        (`plan_as_corrected`)
    verdict : what may be asked of the filters here
    lowest_hz, under_target_db : float
        Where the average is lowest against the target, and how far under it.
    size_db : float
        Level against the target where it is furthest from it; above 0 for a hill.
    size_hz : float
        Where that is.
    at_spots, of_spots : int
        Spots that are off to the same side by at least half as much, of all.
    spread_db : float
        Standard deviation over the spots, mean over the region.
    before_db, left_out_db : float or None
        RMS deviation at spots before, and after the correction that the other spots ask for; None for one spot.
    reason : str
        Of a calibrator who overruled it.
    applied_db, applied_hz : float
        What the filters do at most over 1/12 octave, with its sign, and where.
    costs_db : float
        Their largest gain here, which costs headroom; 0 where they only cut.
    worth_db : float or None
        By how much that lowers the RMS deviation here at spots left out; None for one spot, or without filters.
    planned : the verdict before filters were found, where these do more
    """

    from_hz: float
    to_hz: float
    kind: Kind
    verdict: Verdict
    lowest_hz: float
    under_target_db: float
    size_db: float
    size_hz: float
    at_spots: int
    of_spots: int
    spread_db: float
    before_db: float | None = None
    left_out_db: float | None = None
    reason: str = ""
    applied_db: float = 0.0
    applied_hz: float = 0.0
    costs_db: float = 0.0
    worth_db: float | None = None
    planned: Verdict | None = None

    @property
    def gain_db(self) -> float | None:
        """What correcting would gain at spots that were not measured; None where that can't be known."""
        return None if self.before_db is None or self.left_out_db is None else self.before_db - self.left_out_db

    def covers(self, at_hz: NDArray[np.float64]) -> NDArray[np.bool_]:
        """Whether frequencies lie in it, both ends included, shape as `at_hz`."""
        return in_band(at_hz, (self.from_hz, self.to_hz), octaves=1e-4)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CorrectionPlan:
    """The desired correction, in dB, its weight, and the verdicts; arrays of shape (points,).

    `without_each_db` is the desired correction that leaves each spot out in turn, shape (spots, points); without rows
    for one spot. `share` is how much of what sounds is this channel's own: filters change the level by that part of
    their gain. `most_up_db` and `most_down_db` are what filters may do by the verdicts, infinite where they are free;
    `loud_db` is how far the energy average of the spots is above the target, below 200 Hz.
    """

    frequency_hz: NDArray[np.float64]
    desired_db: NDArray[np.float64]
    weight: NDArray[np.float64]
    share: NDArray[np.float64]
    most_up_db: NDArray[np.float64]
    most_down_db: NDArray[np.float64]
    loud_db: NDArray[np.float64]
    without_each_db: NDArray[np.float64]
    regions: tuple[Region, ...]

    @property
    def furthest(self) -> Region | None:
        """The region inside the range that is furthest off; None where the range holds none."""
        return max((s for s in self.regions if s.kind != "outside"), key=lambda s: abs(s.size_db), default=None)

    @property
    def left_alone(self) -> tuple[Region, ...]:
        """The regions inside the range that are not simply corrected, but for what is good enough as it is."""
        return tuple(
            s
            for s in self.regions
            if s.kind not in ("outside", "skirt", "good enough")
            and (s.verdict != "correct" or s.kind in ("filled", "reached"))
        )


def plan_correction(
    frequency_hz: NDArray,
    needs: Needs,
    target_db: NDArray,
    *,
    limits: Limits,
    overruled: Sequence[Overruled] = (),
    share: NDArray | None = None,
) -> CorrectionPlan:
    """Decide for every frequency what may be asked of the filters.

    Parameters
    ----------
    frequency_hz, target_db : ndarray, shape (points,)
    needs : Needs
        What each spot lacks, smoothed, on the same points.
    share : ndarray, shape (points,), optional
        How much of what sounds is this channel's own, 0 to 1: what others play can't be changed here.

    Notes
    -----
    Peaks are cut and dips are filled, as far as leaving spots out shows that spots which were not used gain by it. A
    dip that lacks more than the largest boost keeps up to 3 dB of what it lacks in the desired correction: the limit
    holds for the bands, and where little can be had it counts most.

    No boost is asked for beyond the end of the speaker's reach, after L. D. Fielder, "Analysis of traditional and
    reverberation-reducing methods of room equalization", JAES 51, 3-26 (2003). Dips that are deep and narrow at all
    spots (a cancellation) are mended by moving something. Where spots left out gain by filling a part of them, filters
    do so within the limits, and the region says it: on simulated rooms forbidding that cost a tenth of what can be
    gained. Elsewhere filters leave them alone.

    Where below 200 Hz the energy average of the spots is more than 3 dB above the target, it is cut to that even where
    spots disagree: a resonance that is loud at some seats is heard there, more than a dip of the same size elsewhere
    (R. Buecklein, "The audibility of frequency response irregularities", JAES 29, 126-131, 1981).
    """
    loud_db = _loud_db(frequency_hz, needs)
    # What may be added before the average is too loud; below 0 it is what is to be cut, by more where others play too.
    share = np.ones(frequency_hz.size) if share is None else share
    quiet = LOUD_DB - loud_db
    quiet = np.where((quiet < 0) & (share > LEAST_SHARE), quiet / np.maximum(share, LEAST_SHARE), quiet)
    desired = np.minimum(needs.desired_db(), quiet)
    mean = needs.weight @ needs.error_db
    inside = in_band(frequency_hz, (limits.from_hz, limits.to_hz))
    regions = _regions(frequency_hz, needs, mean, inside, limits, overruled)
    lowest = np.where(inside, -limits.max_cut_db, 0.0)
    highest = np.where(inside, limits.max_boost_db + _STILL_WANTED_DB, 0.0)
    up, down = np.where(inside, np.maximum(quiet, _LEAST_UP_DB), np.inf), np.full(frequency_hz.size, np.inf)
    for s in regions:
        of_region = (frequency_hz >= s.from_hz * 0.9999) & (frequency_hz <= s.to_hz * 1.0001) & inside
        if s.verdict != "correct":
            highest[of_region] = 0.0
            up[of_region] = np.minimum(up[of_region], ONLY_CUT_DB if s.verdict == "only cut" else LEAVE_DB)
        if s.verdict in ("leave", "move something"):
            lowest[of_region] = 0.0
            down[of_region] = LEAVE_DB

    def allowed(desired: NDArray) -> NDArray:
        clipped = np.clip(desired, lowest, highest)
        return np.where(np.abs(clipped) < limits.good_enough_db, 0.0, clipped)

    weight = np.where(inside, np.where(_faint(frequency_hz, target_db), _FAINT_WEIGHT, 1.0), 0.0)
    without = needs.desired_without_each_db() if needs.spots > 1 else np.zeros((0, frequency_hz.size))
    without = np.minimum(without, quiet)
    return CorrectionPlan(
        frequency_hz=frequency_hz,
        desired_db=allowed(desired),
        without_each_db=allowed(without),
        weight=weight * share**2,
        share=share,
        most_up_db=up,
        most_down_db=down,
        loud_db=loud_db,
        regions=regions,
    )


def _loud_db(frequency_hz: NDArray, needs: Needs) -> NDArray:
    return np.where(frequency_hz <= _LOUD_TO_HZ, needs.loud_db(), _UNHEARD_DB)


def _faint(frequency_hz: NDArray, target_db: NDArray) -> NDArray:
    """True where the target itself wants next to nothing against its mean over 200-2000 Hz: nothing is gained there."""
    middle = in_band(frequency_hz, MEAN_BAND_HZ)
    return target_db < (target_db[middle] if middle.any() else target_db).mean() - _FAINT_DB


def _beyond_extension(frequency_hz: NDArray, excess: NDArray) -> NDArray:
    """True below the highest place under 200 Hz from which on the response stays 10 dB below the target for an
    octave, or down to its end."""
    octave = np.log2(frequency_hz)
    ends = [
        last
        for first, last in _runs(excess < -_EXTENSION_DB)
        if frequency_hz[last - 1] <= _EXTENSION_FROM_HZ
        and (first == 0 or octave[last - 1] - octave[first] >= _EXTENSION_OCTAVES)
    ]
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
        if depth[deepest] > DEEP_DB and octave[high] - octave[low] < NARROW_OCTAVES:
            mask[first:last] = True
    return mask


def _runs(mask: NDArray) -> list[tuple[int, int]]:
    """First and last-plus-one index of each run of True."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def _regions(
    frequency_hz: NDArray, needs: Needs, mean: NDArray, inside: NDArray, limits: Limits, overruled: Sequence[Overruled]
) -> tuple[Region, ...]:
    """Points that lie on one side of the target and share one ground joined into regions, with their verdicts."""
    excess = -mean
    beyond, cancelled = _beyond_extension(frequency_hz, excess), _deep_and_narrow(frequency_hz, excess)
    region_of = np.full(excess.size, -1)
    for k, overruling in enumerate(overruled):
        region_of[(frequency_hz >= overruling.from_hz * 0.9999) & (frequency_hz <= overruling.to_hz * 1.0001)] = k
    ground = np.select(
        [~inside, region_of >= 0, beyond, cancelled], [-1, 100 + region_of, 1, 2], default=3 + (excess > 0)
    )
    bounds = _bounds(frequency_hz, ground)
    loud_db = _loud_db(frequency_hz, needs)
    spread = np.sqrt(np.maximum(needs.weight @ (needs.error_db - mean) ** 2, 0))
    gain = needs.gain_db2(limits)
    lack = needs.weight @ needs.error_db**2
    found = []
    for first, last in pairwise(bounds):
        at = slice(first, last)
        lowest = first + int(np.argmin(excess[at]))
        furthest = first + int(np.argmax(np.abs(excess[at])))
        size = float(excess[furthest])
        inner = int(np.median(ground[at]))
        by_spot = -needs.error_db[:, at].mean(axis=1)
        middle = float(excess[at].mean())
        before = after = None
        if gain is not None:
            before = float(np.sqrt(lack[at].mean()))
            after = float(np.sqrt(max(lack[at].mean() - gain[at].mean(), 0.0)))
        reason = ""
        if inner == -1:
            kind: Kind = "outside"
        elif inner >= 100:
            kind, reason = "overruled", overruled[inner - 100].reason
        elif inner == 1:
            kind = "beyond reach"
        elif inner == 2:
            worth = before is not None and after is not None and before - after > _WORTH_FILLING_DB
            kind = "filled" if worth else "cancelled"
        elif abs(size) <= limits.good_enough_db:
            kind = "good enough"
        elif before is not None and after is not None and after >= before:
            kind = "loud" if loud_db[at].max() > LOUD_DB and size > 0 else "no gain"
        else:
            kind = "fair"
        verdict = (
            overruled[inner - 100].verdict
            if kind == "overruled"
            else "only cut"
            if kind == "no gain" and middle < 0
            else _VERDICTS[kind]
        )
        found.append(
            Region(
                from_hz=float(frequency_hz[first]),
                to_hz=float(frequency_hz[last - 1]),
                kind=kind,
                verdict=verdict,
                lowest_hz=float(frequency_hz[lowest]),
                under_target_db=float(-excess[lowest]),
                size_db=size,
                size_hz=float(frequency_hz[furthest]),
                spread_db=float(spread[at].mean()),
                of_spots=needs.spots,
                at_spots=int(np.sum(by_spot * np.sign(middle) >= abs(middle) / 2)),
                before_db=before,
                left_out_db=after,
                reason=reason,
            )
        )
    return tuple(found)


def _bounds(frequency_hz: NDArray, ground: NDArray) -> list[int]:
    """Where one region ends and the next begins; hills and dips that are too short belong to the longer neighbour."""
    octave = np.log2(frequency_hz)
    ground = ground.copy()
    while True:
        bounds = [0, *(np.flatnonzero(np.diff(ground)) + 1).tolist(), ground.size]
        short = [
            (octave[last - 1] - octave[first], k)
            for k, (first, last) in enumerate(pairwise(bounds))
            if ground[first] in (3, 4) and octave[last - 1] - octave[first] < _SHORTEST_OCTAVES
        ]
        movable = []
        for width, k in short:
            near = [n for n in (k - 1, k + 1) if 0 <= n < len(bounds) - 1 and ground[bounds[n]] in (3, 4)]
            if near:
                longer = max(near, key=lambda n: octave[bounds[n + 1] - 1] - octave[bounds[n]])
                movable.append((width, k, longer))
        if not movable:
            return bounds
        _, k, longer = min(movable)
        ground[bounds[k] : bounds[k + 1]] = ground[bounds[longer]]
