"""One recording of a whole spot, all feeds in turn: which part of it is which feed."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.response.clock_drift import ChirpsFound, find_chirps
from dolce.core.signals import SyncedSignal
from dolce.core.signals.sync_chirps import SYNC_FROM_HZ, chirp_above
from dolce.errors import InvalidValue

_LOUD = 0.35  # of the loudest sync chirp: all come from one speaker, at one level
_CLEAR = 8.0  # the loudest sync chirp above the level of the match elsewhere
_APART_S = 0.3  # sync chirps stand further from each other than that
_SEARCH_PPM = 500.0
_OFF_S = 0.004  # what reflections may shift a peak by; half of what tells two feeds apart
_MARGIN_S = 0.2


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordedPart:
    """One feed's part.

    Attributes
    ----------
    index : int
        Of the feed in what was played.
    start : int
        Where its part of the recording begins, in samples; the sync chirps are counted from there.
    """

    index: int
    start: int
    sync_chirps: ChirpsFound


@dataclass(frozen=True, slots=True, kw_only=True)
class SpotResponses:
    """All parts in the order of the recording, and moments (s) at which something is heard that is no whole part."""

    parts: tuple[RecordedPart, ...]
    cut_off_s: tuple[float, ...]


def recorded_parts(recording: NDArray[np.float64], played: Sequence[SyncedSignal]) -> SpotResponses:
    """Find the parts of a recording in which several feeds were played, each between its sync chirps.

    Parameters
    ----------
    played : sequence of CuedSignal
        Feed by feed, with distances of their sync chirps that differ by 15 ms or more.

    Raises
    ------
    InvalidValue
        If no sync chirp is heard.

    Notes
    -----
    A matched filter finds all sync chirps; two of them whose distance is that of a feed, within what clocks differ,
    are its part. Source: our own.
    """
    rate = played[0].sample_rate_hz
    at = _sync_chirps(recording, rate)
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
            sync_chirps = find_chirps(part, apart=played[index].silent_until, sample_rate_hz=rate, from_hz=SYNC_FROM_HZ)
            if sync_chirps is not None:
                parts.append(RecordedPart(index=index, start=start, sync_chirps=sync_chirps))
                used |= {first, second}
                break
    return SpotResponses(parts=tuple(parts), cut_off_s=_left_over_s(at, parts, played))


def _left_over_s(at: list[int], parts: list[RecordedPart], played: Sequence[SyncedSignal]) -> tuple[float, ...]:
    """When sync chirps, or what looks like them within a sweep, are heard outside of all parts; once a part's
    length."""
    rate, longest = played[0].sample_rate_hz, max(signal.size for signal in played)
    spans = [(part.start, part.start + played[part.index].size + round(2 * _MARGIN_S * rate)) for part in parts]
    found: list[int] = []
    for place in at:
        outside = all(not begin <= place <= end for begin, end in spans)
        if outside and (not found or place - found[-1] > longest):
            found.append(place)
    return tuple(place / rate for place in found)


def _sync_chirps(recording: NDArray, rate: int) -> list[int]:
    """Where sync chirps arrive, in samples."""
    chirp = chirp_above(SYNC_FROM_HZ, rate)
    if recording.size < 2 * chirp.size:
        raise _silent()
    match = np.abs(scipy.signal.correlate(recording, chirp, mode="valid", method="fft"))
    loudest = float(match.max())
    if loudest < _CLEAR * float(np.sqrt(np.mean(match**2))):
        raise _silent()
    found, _ = scipy.signal.find_peaks(match, height=_LOUD * loudest, distance=round(_APART_S * rate))
    return found.tolist()


def _silent() -> InvalidValue:
    return InvalidValue(
        "no sync chirp is heard in it.",
        where="recording",
        remedy="Is it the recording of the whole spot's file, and was the speaker of the sync chirps on?",
    )


def _feed(distance: int, played: Sequence[SyncedSignal], rate: int) -> int | None:
    """Which feed's sync chirps stand so far apart; None for none."""
    off = [abs(distance - signal.silent_until) - _SEARCH_PPM * 1e-6 * signal.silent_until for signal in played]
    nearest = int(np.argmin(off))
    return nearest if off[nearest] < _OFF_S * rate else None
