"""The arrival ladder: every channel's arrival and level, and what brings it level with the others."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from statistics import median
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.levels import LEVEL_BAND_HZ, SUB_LEVEL_BAND_HZ, power_db
from dolce.errors import InvalidValue

TRIM_STEP_DB = 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelReading:
    """What was measured of one channel at the main seat.

    Attributes
    ----------
    level_db : float or None
        None where it is not known: a recording made elsewhere has a gain of its own.
    arrival_s : float or None
        None where the delay is not known.
    arrival_by : "sound" or "plan"
        Whether it was measured, or follows from the distance in the plan.
    together_db : float
        How much more several such channels read where they play the same: 20 lg n for n subs.
    """

    channel: str
    level_db: float | None
    arrival_s: float | None
    polarity: str
    is_sub: bool = False
    arrival_by: Literal["sound", "plan"] = "sound"
    together_db: float = 0.0

    @property
    def matched_db(self) -> float | None:
        """The level by which it is matched: of all that play the same, together."""
        return None if self.level_db is None else self.level_db + self.together_db


@dataclass(frozen=True, slots=True, kw_only=True)
class Rung:
    """One channel: its reading, and the trim and delay proposed for it."""

    reading: ChannelReading
    trim_db: float
    delay_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ArrivalLadder:
    """All rungs, and what would still differ with the trims in steps and delays in whole samples."""

    rungs: tuple[Rung, ...]
    level_left_db: float
    arrival_left_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """How far channels differ at the main seat, and which two are farthest apart; None where it is not known."""

    level_db: float | None
    loudest: str
    softest: str
    arrival_s: float | None
    latest: str
    earliest: str


def mid_level_db(frequency_hz: NDArray, level_db: NDArray, *, band_hz: tuple[float, float] = LEVEL_BAND_HZ) -> float:
    """Level of pink noise in a band: mean power over the logarithm of frequency, in dB."""
    inside = (frequency_hz >= band_hz[0]) & (frequency_hz <= band_hz[1])
    return float(power_db(np.mean(10 ** (level_db[inside] / 10))))


def level_band_hz(*, is_sub: bool) -> tuple[float, float]:
    """The band by which a channel's level is matched."""
    return SUB_LEVEL_BAND_HZ if is_sub else LEVEL_BAND_HZ


def with_subs_by_plan(readings: Sequence[ChannelReading], *, distance_m: Mapping[str, float],
                      speed_m_s: float) -> list[ChannelReading]:
    """Readings whose subs arrive as their distance in the plan says, on the latency of the other channels.

    A sub's own filters delay what it plays by several ms, by some more than by others: lined up by that, they would
    push every main channel back. None where no main channel's arrival is known.
    """
    latencies = [r.arrival_s - distance_m[r.channel] / speed_m_s
                 for r in readings if not r.is_sub and r.arrival_s is not None]
    latency = median(latencies) if latencies else None
    return [r if not r.is_sub else replace(r, arrival_by="plan", arrival_s=None if latency is None else
                                           latency + distance_m[r.channel] / speed_m_s) for r in readings]


def arrival_ladder(readings: Sequence[ChannelReading], *, sample_rate_hz: int,
                   trim_step_db: float = TRIM_STEP_DB) -> ArrivalLadder:
    """Trims in steps down to the softest channel, delays in whole samples up to the last arrival.

    Raises
    ------
    InvalidValue
        If there are fewer than two channels.

    Notes
    -----
    Trimming only downward keeps headroom. A channel without a known level gets no trim, and pulls none; without all
    arrivals there are no delays.
    """
    if len(readings) < 2:
        raise InvalidValue(f"{len(readings)} channel measured at the main seat.", where="align",
                           remedy="Take both channels at the main seat's centre first.")
    levels = [r.matched_db for r in readings if r.matched_db is not None]
    softest = min(levels, default=0.0)
    known = [r.arrival_s for r in readings if r.arrival_s is not None]
    last = max(known) if len(known) == len(readings) else None
    rungs = []
    for reading in readings:
        trim = 0.0 if reading.matched_db is None else \
            round((softest - reading.matched_db) / trim_step_db) * trim_step_db
        delay = 0.0 if last is None else round((last - reading.arrival_s) * sample_rate_hz) / sample_rate_hz
        rungs.append(Rung(reading=reading, trim_db=round(trim, 3) + 0.0, delay_s=delay))
    left = [r.reading.matched_db + r.trim_db for r in rungs if r.reading.matched_db is not None] or [0.0]
    arrivals = [r.reading.arrival_s + r.delay_s for r in rungs] if last is not None else [0.0]
    return ArrivalLadder(rungs=tuple(rungs), level_left_db=max(left) - min(left),
                         arrival_left_s=max(arrivals) - min(arrivals))


def match_of(readings: Sequence[ChannelReading]) -> Match | None:
    """How far channels differ; arrivals of those that were measured. None for fewer than two channels."""
    if len(readings) < 2:
        return None
    by_level = sorted((r for r in readings if r.matched_db is not None), key=lambda r: r.matched_db)
    heard = [r for r in readings if r.arrival_by == "sound"]
    by_arrival = sorted((r for r in heard if r.arrival_s is not None), key=lambda r: r.arrival_s)
    levels_known, arrivals_known = len(by_level) >= 2, len(by_arrival) == len(heard) >= 2
    return Match(
        level_db=by_level[-1].matched_db - by_level[0].matched_db if levels_known else None,
        loudest=by_level[-1].channel if levels_known else "", softest=by_level[0].channel if levels_known else "",
        arrival_s=by_arrival[-1].arrival_s - by_arrival[0].arrival_s if arrivals_known else None,
        latest=by_arrival[-1].channel if arrivals_known else "",
        earliest=by_arrival[0].channel if arrivals_known else "")
