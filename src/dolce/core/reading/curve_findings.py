"""Peaks and dips of a curve over several spots, and what causes them: with the evidence, and how sure."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.acoustics import Modes
from dolce.core.response import smoothed_level_db

CauseKind = Literal["mode", "boundary", "speaker", "microphone"]
SURE, LIKELY = 0.7, 0.45           # from here on a cause is said with confidence, or as likely
_LEAST_DB = 3.0
_FROM_HZ, _TO_HZ = 25.0, 12_000.0
_DIRECT_FROM_HZ = 1000.0           # above, the direct sound tells the speaker from the room
_LEAST_OTHERS = 2                  # channels beside it that tell the microphone from the speaker
_MODE_TO_HZ = 300.0
_NEAR_MODE = 0.03                  # of its frequency
_FAINT_MODE = 10 ** (-12 / 20)     # of the strongest drive there can be
_NEAR_NOTCH_OCTAVES = 0.09
_SEARCHED_OCTAVES, _CLAIMED_OCTAVES = 0.2, 0.12
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
        Orders of a mode as "1-0-0", or the name of a boundary; else empty.
    at_hz : float
        Where the plan expects it; 0 where the plan says nothing.
    rings : float
        Of a mode: how many times longer it rings than its neighbourhood; 0 where not known.
    pattern : float
        Of a mode: correlation of its level over the spots with its shape; of a boundary: part of the spots whose dip
        lies where theirs should. NaN where it can't be told.
    """

    kind: CauseKind
    sure: float
    what: str = ""
    at_hz: float = 0.0
    rings: float = 0.0
    pattern: float = float("nan")


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
    notches_hz : of each boundary, shape (spots,): where its reflection cancels first; infinite where it does not reach
    direct_db : ndarray, shape (points,): level of the direct sound at one spot, or None
    others_direct_db : the same of other channels through the same microphone
    """

    modes: Modes
    drive: NDArray[np.float64]
    ring_hz: NDArray[np.float64]
    ring_s: NDArray[np.float64]
    notches_hz: Mapping[str, NDArray[np.float64]]
    direct_db: NDArray[np.float64] | None = None
    others_direct_db: Sequence[NDArray[np.float64]] = ()


def findings_of_curve(frequency_hz: NDArray, level_db: NDArray, evidence: Evidence) -> list[CurveFinding]:
    """Peaks and dips of the mean over the spots, the largest first, each with its causes.

    Parameters
    ----------
    frequency_hz : ndarray, shape (points,): the analysis grid
    level_db : ndarray, shape (spots, points), over 1/12 octave

    Notes
    -----
    A mode is believed for a resonance of the box near by that speaker and spots can drive, that rings longer than its
    neighbourhood and follows its shape over the spots; a boundary for dips that lie at each spot where that spot's
    geometry says; a speaker for what stands at all spots and in the direct sound; the microphone for what stands in the
    direct sound of all channels. The weights are our own.
    """
    levels = np.atleast_2d(level_db)
    each = levels - smoothed_level_db(levels, per_octave=1)
    mean = each.mean(axis=0)
    found = []
    for sign in (1.0, -1.0):
        found += [_finding(frequency_hz, each, mean, k, width, sign, evidence)
                  for k, width in _extremes(frequency_hz, sign * mean)]
    return sorted(found, key=lambda f: -abs(f.size_db))[:_MOST]


def _extremes(frequency_hz: NDArray, height: NDArray) -> list[tuple[int, float]]:
    """Peaks of a curve: numbers of their points, and widths at half height in octaves."""
    inside = (frequency_hz >= _FROM_HZ) & (frequency_hz <= _TO_HZ)
    at, _ = scipy.signal.find_peaks(height, height=_LEAST_DB, prominence=_LEAST_DB)
    step = float(np.log2(frequency_hz[1] / frequency_hz[0]))
    found = []
    for k in at[inside[at]]:
        lower = np.flatnonzero(height < height[k] / 2)
        left, right = lower[lower < k].max(initial=0), lower[lower > k].min(initial=height.size - 1)
        found.append((int(k), float((right - left - 1) * step)))
    return found


def _finding(frequency_hz: NDArray, each: NDArray, mean: NDArray, k: int, width: float, sign: float,
             evidence: Evidence) -> CurveFinding:
    at, size = float(frequency_hz[k]), float(mean[k])
    near = np.abs(np.log2(frequency_hz / at)) < max(width / 2, 1 / 12)
    strongest = (sign * each[:, near]).max(axis=1)
    spots = int(np.sum(strongest >= abs(size) / 2))
    causes = [cause for cause in (
        _mode(at, each[:, near].mean(axis=1), evidence) if sign > 0 else None,
        *(_boundary(name, at, frequency_hz, each, notches)
          for name, notches in evidence.notches_hz.items() if sign < 0),
        _in_direct_sound(k, at, size, spots / len(each), evidence)) if cause is not None]
    causes.sort(key=lambda cause: -cause.sure)
    return CurveFinding(frequency_hz=at, size_db=size, width_octaves=width, spots=spots, of_spots=len(each),
                        causes=tuple(causes))


def _mode(at_hz: float, level_db: NDArray, evidence: Evidence) -> Cause | None:
    """The mode near a peak that speaker and spots drive most."""
    modes = evidence.modes
    if at_hz > _MODE_TO_HZ or not modes.frequency_hz.size:
        return None
    off = np.abs(modes.frequency_hz / at_hz - 1)
    driven = np.sqrt(np.mean(evidence.drive**2, axis=0))
    near = np.flatnonzero((off < _NEAR_MODE) & (driven > _FAINT_MODE))
    if not near.size:
        return None
    best = int(near[np.argmax(driven[near] * (1 - off[near] / _NEAR_MODE / 2))])
    rings = _rings(at_hz, evidence)
    pattern = _correlation(level_db, evidence.drive[:, best])
    # Where modes lie close, one of them is always near: that says less then.
    sure = 0.45 / max(1.0, near.size / 2) + 0.35 * np.clip((rings - 1) / 0.4, 0, 1)
    sure += 0.1 if np.isnan(pattern) else 0.2 * max(pattern, 0)
    return Cause(kind="mode", sure=float(min(sure, 1)), what="-".join(map(str, modes.orders[best].tolist())),
                 at_hz=float(modes.frequency_hz[best]), rings=rings, pattern=pattern)


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
        fits += bool(each[spot, lowest] < -_LEAST_DB
                     and abs(measured[-1] - np.log2(notches_hz[spot])) < _NEAR_NOTCH_OCTAVES)
    part = fits / reached.sum()
    wanted = np.log2(notches_hz[reached])
    moves = 0.0
    if len(measured) >= 4 and np.ptp(wanted) > 0.08 and np.ptp(measured) > 0:
        moves = max(0.0, float(np.corrcoef(wanted, measured)[0, 1]))
    sure = 0.75 * max(0.0, (part - 0.3) / 0.7) + 0.25 * moves
    return Cause(kind="boundary", sure=float(sure), what=name, at_hz=expected, pattern=float(part))


def _in_direct_sound(k: int, at_hz: float, size_db: float, part: float, evidence: Evidence) -> Cause | None:
    """The speaker's own, where it stands in its direct sound; the microphone's, where it stands in others' too."""
    if at_hz < _DIRECT_FROM_HZ or evidence.direct_db is None:
        return None

    def share(direct_db: NDArray) -> float:
        """How much of it stands in a direct sound near by."""
        own = direct_db - smoothed_level_db(direct_db, per_octave=1)
        near = own[max(0, k - 4): k + 5]
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
