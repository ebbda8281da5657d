"""The arrival ladder: every channel's arrival and level, and what brings it level with the others."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.levels import power_db
from dolce.errors import InvalidValue

TRIM_STEP_DB = 0.1
LEVEL_BAND_HZ = (500.0, 2000.0)     # where neither the room's bass nor the directivity of tweeters rules


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelReading:
    """What was measured of one channel at the main seat; `arrival_s` is None where the delay is not known."""

    channel: str
    level_db: float
    arrival_s: float | None
    polarity: str


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


def mid_level_db(frequency_hz: NDArray, level_db: NDArray, *, band_hz: tuple[float, float] = LEVEL_BAND_HZ) -> float:
    """Level of pink noise in a band: mean power over the logarithm of frequency, in dB."""
    inside = (frequency_hz >= band_hz[0]) & (frequency_hz <= band_hz[1])
    return float(power_db(np.mean(10 ** (level_db[inside] / 10))))


def arrival_ladder(readings: Sequence[ChannelReading], *, sample_rate_hz: int,
                   trim_step_db: float = TRIM_STEP_DB) -> ArrivalLadder:
    """Trims in steps down to the softest channel, delays in whole samples up to the last arrival.

    Raises
    ------
    InvalidValue
        If there are fewer than two channels.

    Notes
    -----
    Trimming only downward keeps headroom. A channel without a known arrival gets no delay.
    """
    if len(readings) < 2:
        raise InvalidValue(f"{len(readings)} channel measured at the main seat.", where="align",
                           remedy="Take both channels at spot 1 first.")
    softest = min(r.level_db for r in readings)
    known = [r.arrival_s for r in readings if r.arrival_s is not None]
    last = max(known) if len(known) == len(readings) else None
    rungs = []
    for reading in readings:
        trim = round((softest - reading.level_db) / trim_step_db) * trim_step_db
        delay = 0.0 if last is None else round((last - reading.arrival_s) * sample_rate_hz) / sample_rate_hz
        rungs.append(Rung(reading=reading, trim_db=round(trim, 3) + 0.0, delay_s=delay))
    levels = [r.reading.level_db + r.trim_db for r in rungs]
    arrivals = [r.reading.arrival_s + r.delay_s for r in rungs] if last is not None else [0.0]
    return ArrivalLadder(rungs=tuple(rungs), level_left_db=max(levels) - min(levels),
                         arrival_left_s=max(arrivals) - min(arrivals))
