"""Peaks and dips of a curve over several spots, and what causes them: with the evidence, and how sure."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.acoustics import WALLS, Modes
from dolce.core.dsp import in_band
from dolce.core.reading.surfaces import ExpectedLevels
from dolce.core.response import smoothed_level_db

CauseKind = Literal["mode", "boundary", "end", "speaker", "microphone", "screen", "crossover"]
SURE, LIKELY = 0.7, 0.45  # from here on a cause is said with confidence, or as likely
_LEAST_DB = 3.0
_FROM_HZ, _TO_HZ = 25.0, 12_000.0
_DIRECT_FROM_HZ = 1000.0  # above, the direct sound tells the speaker from the room
_LEAST_OTHERS = 2  # channels beside it that tell the microphone from the speaker
_MODE_TO_HZ = 300.0
_NEAR_MODE = 0.03  # of its frequency
_AS_STRONG = 0.6  # of the strongest near by: then the two make the peak together
_FAINT_MODE = 10 ** (-12 / 20)  # of the strongest drive there can be
_NEAR_NOTCH_OCTAVES = 0.09
_SEARCHED_OCTAVES, _CLAIMED_OCTAVES = 0.2, 0.12
_MIDDLE_HZ, _TREBLE_HZ = (500.0, 2000.0), (8000.0, 14_000.0)
_BRIGHT_DB = 3.5  # of treble above the middle, in the direct sound of all channels
_DULL_DB, _DULL_ALONE_DB = 2.5, 5.0  # of treble under the others', and under its own middle
_MEET_HZ = (30.0, 300.0)  # where main channels and subs hand over
_CANCELS_DB, _AS_LOUD_DB = 2.0, 12.0  # below the louder of two that are so far apart at most
_NEAR_CORNER_OCTAVES = 0.5
_CONFIRMED, _MOST_SURE = 0.05, 0.95  # by a reflection that a take shows at its time
_SHAPE_AGREES = 0.3  # correlation of levels over the spots with the shape of a mode: below, they speak against it
_MOST = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """What may make a peak or a dip.

    Attributes
    ----------
    kind : CauseKind
    sure : float
        0 to 1.
    what : str
        Orders of a mode as "1-0-0", of two that lie together as "1-0-0, 0-1-0"; names of the surfaces whose reflections
        take most, as "front wall, floor", empty for several together; else empty.
    at_hz : float
        Where the plan expects it; 0 where the plan says nothing.
    rings : float
        Of a mode: how many times longer it rings than its neighbourhood; 0 where not known.
    pattern : float
        Of a mode: correlation of its level over the spots with its shape; of a boundary: correlation of the takes with
        the box model around the dip, or of a desk the part of the spots whose dip lies where theirs should; of a
        crossover: by how many dB all together are softer than the louder part, or how
        much of the dip is new since bass goes to the subs. NaN where it can't be told.
    fill_db : float
        Of a boundary of the box model: how much higher the level would lie there without its reflections.
    seen : (float, float) or None
        Of a boundary: how much later its reflection arrives than the direct sound in s, and its level against that in
        dB, where a take shows it.
    """

    kind: CauseKind
    sure: float
    what: str = ""
    at_hz: float = 0.0
    rings: float = 0.0
    pattern: float = float("nan")
    fill_db: float = 0.0
    seen: tuple[float, float] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class CurveFinding:
    """A peak or a dip against the octave around it.

    Attributes
    ----------
    size_db : float
        Above 0 for a peak.
    width_octaves : float
        At half its size.
    spots, of_spots : int
        At how many of how many spots it stands, at least half as large.
    causes : the likeliest first; empty where nothing explains it
    """

    frequency_hz: float
    size_db: float
    width_octaves: float
    spots: int
    of_spots: int
    causes: tuple[Cause, ...]

    @property
    def cause(self) -> Cause | None:
        """The likeliest, if it is likely."""
        return self.causes[0] if self.causes and self.causes[0].sure >= LIKELY else None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Evidence:
    """What a curve is held against.

    Attributes
    ----------
    modes : Modes, with `drive`, shape (spots, modes): pressure at the speaker times that at each spot
    ring_hz, ring_s : ndarray, shape (bands,); how long the sound rings at low frequencies, empty where not known
    expected : what the box model expects at the spots; None where it says nothing of the row
    notches_hz : of each boundary, shape (spots,): where its reflection cancels first; infinite where it does not reach.
        Those of the box count only above what `expected` tells.
    seen : of surfaces whose reflections a take shows: how much later in s, and level against the direct sound in dB
    plays_hz : between which frequencies the row plays at all
    direct_db : ndarray, shape (points,): level of the direct sound at one spot, or None
    others_direct_db : the same of other channels through the same microphone
    screened : whether the plan has a screen or a cloth before the speaker
    parts_db : of a row in which several sound, the levels of each alone at the same spots, each shape (spots, points)
    together_db : of such a row, its own levels there, shape (spots, points)
    crossover_hz : where the processor hands over between the row's main and the subs; 0 for nowhere
    without_crossover_db : the row's levels at its spots before it did so, shape (spots, points); None where not taken
    """

    modes: Modes
    drive: NDArray[np.float64]
    ring_hz: NDArray[np.float64]
    ring_s: NDArray[np.float64]
    notches_hz: Mapping[str, NDArray[np.float64]]
    expected: ExpectedLevels | None = None
    seen: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    plays_hz: tuple[float, float] = (0.0, float("inf"))
    direct_db: NDArray[np.float64] | None = None
    others_direct_db: Sequence[NDArray[np.float64]] = ()
    screened: bool = False
    parts_db: Sequence[NDArray[np.float64]] = ()
    together_db: NDArray[np.float64] | None = None
    crossover_hz: float = 0.0
    without_crossover_db: NDArray[np.float64] | None = None


def findings_of_curve(frequency_hz: NDArray, level_db: NDArray, evidence: Evidence) -> list[CurveFinding]:
    """Peaks and dips of the mean over the spots, the largest first, each with its causes.

    Parameters
    ----------
    frequency_hz : ndarray, shape (points,): the analysis grid
    level_db : ndarray, shape (spots, points), over 1/12 octave

    Notes
    -----
    A mode is believed for a resonance of the box near by that speaker and spots can drive, that rings longer than its
    neighbourhood and follows its shape over the spots; surfaces for dips that the box model has as well, and that
    follow it from spot to spot, those first without which the model would fill them most, a little more where a take
    shows the reflection; a desk for dips that lie at
    each spot where its geometry says; the loudspeaker's end for what lies below it; a speaker for what stands at all
    spots and in the direct sound; the microphone for what stands in the direct sound of all channels; a screen for
    treble that the direct sound lacks; a crossover where several speakers together are softer than the louder of them,
    or for a dip that was not there before it was in use. A mode whose shape the levels over the spots don't follow is
    not likely. The weights are our own.
    """
    levels = np.atleast_2d(level_db)
    found: list[CurveFinding] = []
    for look in (_NARROW, _WIDE):
        each = look.of(levels)
        mean = each.mean(axis=0)
        for sign in (1.0, -1.0):
            new = [
                _finding(frequency_hz, each, mean, k, width, sign, evidence, look)
                for k, width in _extremes(frequency_hz, sign * mean, look)
                if frequency_hz[k] < evidence.plays_hz[1]
            ]
            found += [finding for finding in new if not any(_one_and_the_same(finding, other) for other in found)]
    for finding in (
        *_own_sound(frequency_hz, levels, evidence),
        _dull(frequency_hz, len(levels), evidence),
        _bright(frequency_hz, len(levels), evidence),
        _cancelled(frequency_hz, evidence),
    ):
        if finding is not None:
            found = [*(other for other in found if not _one_and_the_same(finding, other)), finding]
    return sorted(found, key=lambda f: -abs(f.size_db))[:_MOST]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Look:
    """How curves are looked at: smoothed so, against what lies so wide around, for what is so wide."""

    smoothed: float | None
    around: float
    least_octaves: float
    least_db: float

    def of(self, level_db: NDArray) -> NDArray:
        """Levels against their surroundings."""
        near = level_db if self.smoothed is None else smoothed_level_db(level_db, per_octave=self.smoothed)
        return near - smoothed_level_db(level_db, per_octave=self.around)


# Resonances and combs stand against the octave around them; a first cancellation against more.
_NARROW = _Look(smoothed=None, around=1.0, least_octaves=0.0, least_db=_LEAST_DB)
_WIDE = _Look(smoothed=4.0, around=1 / 3, least_octaves=0.35, least_db=2.5)
_OWN = _Look(smoothed=3.0, around=1 / 3, least_octaves=0.3, least_db=3.0)


def _one_and_the_same(first: CurveFinding, other: CurveFinding) -> bool:
    apart = abs(np.log2(first.frequency_hz / other.frequency_hz))
    return bool(
        first.size_db * other.size_db > 0 and apart < max(0.15, min(first.width_octaves, other.width_octaves) / 2)
    )


def _extremes(frequency_hz: NDArray, height: NDArray, look: _Look) -> list[tuple[int, float]]:
    """Peaks of a curve: numbers of their points, and widths at half height in octaves."""
    inside = in_band(frequency_hz, (_FROM_HZ, _TO_HZ))
    at, _ = scipy.signal.find_peaks(height, height=look.least_db, prominence=look.least_db)
    step = float(np.log2(frequency_hz[1] / frequency_hz[0]))
    found = []
    for k in at[inside[at]]:
        lower = np.flatnonzero(height < height[k] / 2)
        start, right = lower[lower < k].max(initial=0), lower[lower > k].min(initial=height.size - 1)
        found.append((int(k), float((right - start - 1) * step)))
    return [peak for peak in found if peak[1] >= look.least_octaves]


def _finding(
    frequency_hz: NDArray,
    each: NDArray,
    mean: NDArray,
    k: int,
    width: float,
    sign: float,
    evidence: Evidence,
    look: _Look,
) -> CurveFinding:
    at, size = float(frequency_hz[k]), float(mean[k])
    near = np.abs(np.log2(frequency_hz / at)) < max(width / 2, 1 / 12)
    strongest = (sign * each[:, near]).max(axis=1)
    spots = int(np.sum(strongest >= abs(size) / 2))
    causes = [
        cause
        for cause in (
            _mode(at, each[:, near].mean(axis=1), evidence) if sign > 0 else None,
            *(_surfaces(at, size, frequency_hz, each, evidence, look) if sign < 0 else ()),
            _below_its_end(at, evidence) if sign < 0 else None,
            _handed_over(k, at, size, evidence, look) if sign < 0 else None,
            _in_direct_sound(k, at, size, spots / len(each), evidence, look),
        )
        if cause is not None
    ]
    causes.sort(key=lambda cause: -cause.sure)
    return CurveFinding(
        frequency_hz=at, size_db=size, width_octaves=width, spots=spots, of_spots=len(each), causes=tuple(causes)
    )


def _mode(at_hz: float, level_db: NDArray, evidence: Evidence) -> Cause | None:
    """The mode near a peak, or the two together, that speaker and spots drive most."""
    modes = evidence.modes
    if at_hz > _MODE_TO_HZ or not modes.frequency_hz.size:
        return None
    off = np.abs(modes.frequency_hz / at_hz - 1)
    driven = np.sqrt(np.mean(evidence.drive**2, axis=0))
    near = np.flatnonzero((off < _NEAR_MODE) & (driven > _FAINT_MODE))
    if not near.size:
        return None
    strength = driven[near] * (1 - off[near] / _NEAR_MODE / 2)
    order = near[np.argsort(-strength)]
    rings = _rings(at_hz, evidence)
    found = [_of_modes(order[:1], level_db, near.size, rings, evidence)]
    if near.size > 1 and np.sort(strength)[-2] > _AS_STRONG * strength.max():
        found.append(_of_modes(order[:2], level_db, near.size, rings, evidence))
    return max(found, key=lambda cause: cause.sure)


def _of_modes(numbers: NDArray, level_db: NDArray, near: int, rings: float, evidence: Evidence) -> Cause:
    """One mode or two that lie together, whose energies add up; `near` is how many there are to choose from."""
    pattern = _correlation(level_db, np.sqrt(np.sum(evidence.drive[:, numbers] ** 2, axis=1)))
    # Where modes lie close, one of them is always near: that says less then.
    sure = 0.45 / max(1.0, near / 2) + 0.35 * np.clip((rings - 1) / 0.4, 0, 1)
    sure += 0.1 if np.isnan(pattern) else 0.2 * max(pattern, 0)
    if pattern < _SHAPE_AGREES:
        sure = min(sure, LIKELY - 0.05)
    modes = evidence.modes
    return Cause(
        kind="mode",
        sure=float(min(sure, 1)),
        what=", ".join("-".join(map(str, modes.orders[number].tolist())) for number in numbers),
        at_hz=float(modes.frequency_hz[numbers[0]]),
        rings=rings,
        pattern=pattern,
    )


def _rings(at_hz: float, evidence: Evidence) -> float:
    """How many times longer the sound rings there than around; 0 where not known."""
    known = np.isfinite(evidence.ring_s)
    away = np.abs(np.log2(evidence.ring_hz / at_hz)) if evidence.ring_hz.size else np.empty(0)
    here, around = known & (away < 1 / 16), known & (away < 0.75) & (away > 1 / 8)
    if not here.any() or around.sum() < 3:
        return 0.0
    return float(evidence.ring_s[here].max() / np.median(evidence.ring_s[around]))


def _correlation(level_db: NDArray, drive: NDArray) -> float:
    """Of levels over the spots with the shape of a mode; NaN where there are few spots, or it is alike at all."""
    shape = 20 * np.log10(np.maximum(np.abs(drive), 1e-2))
    if level_db.size < 4 or np.ptp(shape) < 2 or np.ptp(level_db) < 1:
        return float("nan")
    return float(np.corrcoef(shape, level_db)[0, 1])


def _surfaces(
    at_hz: float, size_db: float, frequency_hz: NDArray, each: NDArray, evidence: Evidence, look: "_Look"
) -> list[Cause | None]:
    """The box's surfaces by its model; all others, and all above it, by where their geometry has a cancellation."""
    by_model = (
        evidence.expected.surfaces_of_dip(at_hz, size_db, each, look.of) if evidence.expected is not None else None
    )
    causes = [
        _boundary(name, at_hz, frequency_hz, each, notches)
        for name, notches in evidence.notches_hz.items()
        if by_model is None or name not in WALLS
    ]
    if by_model is not None:
        seen = evidence.seen.get(by_model.surfaces[0]) if by_model.surfaces else None
        causes.append(
            Cause(
                kind="boundary",
                sure=min(_MOST_SURE, by_model.sure + (_CONFIRMED if seen else 0.0)),
                seen=seen,
                what=", ".join(by_model.surfaces),
                at_hz=by_model.at_hz,
                pattern=by_model.agrees,
                fill_db=by_model.fill_db,
            )
        )
    return causes


def _below_its_end(at_hz: float, evidence: Evidence) -> Cause | None:
    """A dip where the loudspeaker plays no more."""
    end = evidence.plays_hz[0]
    if at_hz >= end:
        return None
    return Cause(kind="end", sure=float(min(0.9, 0.6 + 0.6 * np.log2(end / at_hz))), at_hz=end)


def _boundary(name: str, at_hz: float, frequency_hz: NDArray, each: NDArray, notches_hz: NDArray) -> Cause | None:
    """A reflection whose first cancellation lies near a dip, spot by spot."""
    reached = np.isfinite(notches_hz)
    if reached.sum() < max(1, len(each) / 2):
        return None
    expected = float(np.median(notches_hz[reached]))
    if abs(np.log2(expected / at_hz)) > _CLAIMED_OCTAVES:
        return None
    fits, measured = 0, []
    for spot in np.flatnonzero(reached):
        near = np.abs(np.log2(frequency_hz / notches_hz[spot])) < _SEARCHED_OCTAVES
        lowest = np.flatnonzero(near)[np.argmin(each[spot, near])]
        measured.append(np.log2(frequency_hz[lowest]))
        fits += bool(
            each[spot, lowest] < -_LEAST_DB and abs(measured[-1] - np.log2(notches_hz[spot])) < _NEAR_NOTCH_OCTAVES
        )
    part = fits / reached.sum()
    wanted = np.log2(notches_hz[reached])
    moves = 0.0
    if len(measured) >= 4 and np.ptp(wanted) > 0.08 and np.ptp(measured) > 0:
        moves = max(0.0, float(np.corrcoef(wanted, measured)[0, 1]))
    sure = 0.75 * max(0.0, (part - 0.3) / 0.7) + 0.25 * moves
    return Cause(kind="boundary", sure=float(sure), what=name, at_hz=expected, pattern=float(part))


def _handed_over(k: int, at_hz: float, size_db: float, evidence: Evidence, look: _Look) -> Cause | None:
    """A dip where the processor hands over between main and subs, of which the parts were not taken alone: likely if
    it was not there before, too little evidence if nobody took that."""
    if evidence.together_db is not None or not evidence.crossover_hz:
        return None
    if abs(np.log2(at_hz / evidence.crossover_hz)) >= _NEAR_CORNER_OCTAVES:
        return None
    if evidence.without_crossover_db is None:
        return Cause(kind="crossover", sure=0.4, at_hz=evidence.crossover_hz)
    before = look.of(evidence.without_crossover_db).mean(axis=0)[max(0, k - 4) : k + 5].min()
    new = float(1 - min(before, 0.0) / size_db)
    if new < 0.5:
        return None
    return Cause(kind="crossover", sure=0.3 + 0.4 * min(new, 1.0), at_hz=evidence.crossover_hz, pattern=new)


def _cancelled(frequency_hz: NDArray, evidence: Evidence) -> CurveFinding | None:
    """Where speakers that sound at once take most from each other: together softer than the louder of them alone."""
    if evidence.together_db is None:
        return None
    parts = np.array(evidence.parts_db)
    louder, softer = parts.max(axis=0), parts.min(axis=0)
    both = louder - softer < _AS_LOUD_DB
    lost = smoothed_level_db(np.where(both, louder - evidence.together_db, 0.0).mean(axis=0), per_octave=6)
    inside = np.flatnonzero((frequency_hz > _MEET_HZ[0]) & (frequency_hz < _MEET_HZ[1]))
    k = int(inside[np.argmax(lost[inside])])
    if lost[k] < _CANCELS_DB:
        return None
    less = np.flatnonzero(lost <= lost[k] / 2)
    start, right = less[less < k].max(initial=0), less[less > k].min(initial=lost.size - 1)
    step = float(np.log2(frequency_hz[1] / frequency_hz[0]))
    here = np.mean(evidence.together_db[:, k] < louder[:, k] - _CANCELS_DB)
    sure = min(0.95, 0.5 + 0.06 * (lost[k] - _CANCELS_DB) + 0.3 * here)
    return CurveFinding(
        frequency_hz=float(frequency_hz[k]),
        size_db=-float(lost[k]),
        width_octaves=float((right - start - 1) * step),
        spots=round(here * len(parts[0])),
        of_spots=len(parts[0]),
        causes=(Cause(kind="crossover", sure=float(sure), at_hz=float(frequency_hz[k]), pattern=float(lost[k])),),
    )


def _own_sound(frequency_hz: NDArray, levels: NDArray, evidence: Evidence) -> list[CurveFinding]:
    """Where the direct sound of a speaker differs from that of the others, over a third of an octave and more."""
    if evidence.direct_db is None or len(evidence.others_direct_db) < _LEAST_OTHERS:
        return []
    against = smoothed_level_db(evidence.direct_db - np.median(evidence.others_direct_db, axis=0), per_octave=3)
    inside = (frequency_hz > _DIRECT_FROM_HZ) & (frequency_hz < _TREBLE_HZ[0])
    against = against - np.median(against[inside])
    apart = _WIDE.of(levels)
    found = []
    for sign in (1.0, -1.0):
        for k, width in _extremes(frequency_hz, sign * against, _OWN):
            if inside[k]:
                size = float(against[k])
                spots = int(np.sum(sign * apart[:, k] > abs(size) / 6))
                sure = float(min(0.9, 0.45 + 0.05 * abs(size) + 0.25 * spots / len(levels)))
                found.append(
                    CurveFinding(
                        frequency_hz=float(frequency_hz[k]),
                        size_db=size,
                        width_octaves=width,
                        spots=spots,
                        of_spots=len(levels),
                        causes=(Cause(kind="speaker", sure=sure, pattern=spots / len(levels)),),
                    )
                )
    return found


def _bright(frequency_hz: NDArray, spots: int, evidence: Evidence) -> CurveFinding | None:
    """Treble that rises in the direct sound of every channel: no speakers do that, a microphone off its curve does."""
    if evidence.direct_db is None or len(evidence.others_direct_db) < _LEAST_OTHERS:
        return None
    every = np.array([evidence.direct_db, *evidence.others_direct_db])
    middle, treble = (every[:, in_band(frequency_hz, band_hz)].mean(axis=1) for band_hz in (_MIDDLE_HZ, _TREBLE_HZ))
    rise = treble - middle
    least, typical = float(rise.min()), float(np.median(rise))
    if least < _BRIGHT_DB / 2 or typical < _BRIGHT_DB:
        return None
    shared = smoothed_level_db(np.median(every, axis=0), per_octave=3)
    above = np.flatnonzero((frequency_hz > _MIDDLE_HZ[1]) & (shared - np.median(middle) > typical / 2))
    corner = float(frequency_hz[above[0]]) if above.size else _TREBLE_HZ[0]
    return CurveFinding(
        frequency_hz=corner,
        size_db=typical,
        width_octaves=float(np.log2(_TREBLE_HZ[1] / corner)),
        spots=spots,
        of_spots=spots,
        causes=(Cause(kind="microphone", sure=float(min(0.85, 0.3 + 0.1 * typical)), pattern=1.0),),
    )


def _dull(frequency_hz: NDArray, spots: int, evidence: Evidence) -> CurveFinding | None:
    """Treble that is missing in the direct sound, against that of the others where there are some."""
    if evidence.direct_db is None:
        return None
    known = len(evidence.others_direct_db) >= _LEAST_OTHERS
    beside = np.median(evidence.others_direct_db, axis=0) if known else np.zeros(frequency_hz.size)
    against = smoothed_level_db(evidence.direct_db - beside, per_octave=3)
    middle, treble = (float(np.mean(against[in_band(frequency_hz, band_hz)])) for band_hz in (_MIDDLE_HZ, _TREBLE_HZ))
    lost = middle - treble
    if lost < (_DULL_DB if known else _DULL_ALONE_DB):
        return None
    above = np.flatnonzero((frequency_hz > _MIDDLE_HZ[1]) & (against - middle < -lost / 2))
    corner = float(frequency_hz[above[0]])
    sure = 0.4 + 0.3 * evidence.screened + 0.15 * known
    kind: CauseKind = "screen" if evidence.screened else "speaker"
    return CurveFinding(
        frequency_hz=corner,
        size_db=-lost,
        width_octaves=float(np.log2(_TREBLE_HZ[1] / corner)),
        spots=spots,
        of_spots=spots,
        causes=(Cause(kind=kind, sure=sure, pattern=1.0),),
    )


def _in_direct_sound(
    k: int, at_hz: float, size_db: float, part: float, evidence: Evidence, look: _Look
) -> Cause | None:
    """The speaker's own, where it stands in its direct sound; the microphone's, where it stands in others' too."""
    if at_hz < _DIRECT_FROM_HZ or evidence.direct_db is None:
        return None

    def share(direct_db: NDArray) -> float:
        """How much of it stands in a direct sound near by."""
        shape_db = look.of(direct_db)
        near = shape_db[max(0, k - 4) : k + 5]
        return float(np.clip((near.max() if size_db > 0 else -near.min()) / abs(size_db), 0, 1.2))

    here = share(evidence.direct_db)
    if here < 0.5 or part < 0.7:
        return None
    others = [share(direct) for direct in evidence.others_direct_db]
    if len(others) < _LEAST_OTHERS:
        # Of a pair alone the microphone can't be told from two equal speakers.
        return Cause(kind="speaker", sure=float(min(0.6, 0.2 + 0.4 * here)), pattern=part)
    if np.median(others) > 0.5:
        return Cause(kind="microphone", sure=float(min(0.9, 0.45 + 0.4 * np.median(others))), pattern=part)
    return Cause(kind="speaker", sure=float(min(0.9, 0.3 + 0.5 * here)), pattern=part)
