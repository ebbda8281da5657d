"""One recording of a whole spot, all feeds in turn: which part of it is which feed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.response.clock_drift import MarksHeard, marks_heard
from dolce.core.signals import CuedSignal
from dolce.core.signals.sync_chirps import CUE_FROM_HZ, mark_above
from dolce.errors import InvalidValue

_LOUD = 0.35  # of the loudest cue: all come from one speaker, at one level
_CLEAR = 8.0  # the loudest cue above the level of the match elsewhere
_APART_S = 0.3  # cues stand further from each other than that
_SEARCH_PPM = 500.0
_OFF_S = 0.004  # what reflections may shift a peak by; half of what tells two feeds apart
_MARGIN_S = 0.2


@dataclass(frozen=True, slots=True, kw_only=True)
class PartHeard:
    """One feed's part.

    Attributes
    ----------
    index : int
        Of the feed in what was played.
    start : int
        Where its part of the recording begins, in samples; the cues are counted from there.
    """

    index: int
    start: int
    cues: MarksHeard


@dataclass(frozen=True, slots=True, kw_only=True)
class SpotHeard:
    """All parts in the order of the recording, and moments (s) at which something is heard that is no whole part."""

    parts: tuple[PartHeard, ...]
    cut_off_s: tuple[float, ...]


def parts_heard(recording: NDArray[np.float64], played: Sequence[CuedSignal]) -> SpotHeard:
    """Find the parts of a recording in which several feeds were played, each between its cues.

    Parameters
    ----------
    played : sequence of CuedSignal
        Feed by feed, with distances of their cues that differ by 15 ms or more.

    Raises
    ------
    InvalidValue
        If no cue is heard.

    Notes
    -----
    A matched filter finds all cues; two of them whose distance is that of a feed, within what clocks differ, are its
    part. Source: our own.
    """
    rate = played[0].sample_rate_hz
    at = _cues(recording, rate)
    parts, used = [], set()
    for position, first in enumerate(at):
        if first in used:
            continue
        for second in at[position + 1 :]:
            index = _feed(second - first, played, rate)
            if index is None or second in used:
                continue
            start = max(0, first - round(_MARGIN_S * rate))
            part = recording[start : first + played[index].size + round(_MARGIN_S * rate)]
            cues = marks_heard(part, apart=played[index].silent_until, sample_rate_hz=rate, from_hz=CUE_FROM_HZ)
            if cues is not None:
                parts.append(PartHeard(index=index, start=start, cues=cues))
                used |= {first, second}
                break
    return SpotHeard(parts=tuple(parts), cut_off_s=_left_over_s(at, parts, played))


def _left_over_s(at: list[int], parts: list[PartHeard], played: Sequence[CuedSignal]) -> tuple[float, ...]:
    """When cues, or what looks like them within a sweep, are heard outside of all parts; once a part's length."""
    rate, longest = played[0].sample_rate_hz, max(one.size for one in played)
    spans = [(part.start, part.start + played[part.index].size + round(2 * _MARGIN_S * rate)) for part in parts]
    found: list[int] = []
    for one in at:
        outside = all(not begin <= one <= end for begin, end in spans)
        if outside and (not found or one - found[-1] > longest):
            found.append(one)
    return tuple(one / rate for one in found)


def _cues(recording: NDArray, rate: int) -> list[int]:
    """Where cues arrive, in samples."""
    one = mark_above(CUE_FROM_HZ, rate)
    if recording.size < 2 * one.size:
        raise _silent()
    match = np.abs(scipy.signal.correlate(recording, one, mode="valid", method="fft"))
    loudest = float(match.max())
    if loudest < _CLEAR * float(np.sqrt(np.mean(match**2))):
        raise _silent()
    found, _ = scipy.signal.find_peaks(match, height=_LOUD * loudest, distance=round(_APART_S * rate))
    return found.tolist()


def _silent() -> InvalidValue:
    return InvalidValue(
        "no cue is heard in it.",
        where="recording",
        remedy="Is it the recording of the whole spot's file, and was the cue's speaker on?",
    )


def _feed(distance: int, played: Sequence[CuedSignal], rate: int) -> int | None:
    """Which feed's cues stand so far apart; None for none."""
    off = [abs(distance - one.silent_until) - _SEARCH_PPM * 1e-6 * one.silent_until for one in played]
    nearest = int(np.argmin(off))
    return nearest if off[nearest] < _OFF_S * rate else None
