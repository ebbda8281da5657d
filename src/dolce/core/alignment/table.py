"""The arrival alignment table: every channel's arrival and level, and what brings it level with the others."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from statistics import median
from typing import Literal

from numpy.typing import NDArray

from dolce.core.checked import limited, ranges, within
from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.levels import LEVEL_BAND_HZ, SUB_LEVEL_BAND_HZ
from dolce.core.response import Polarity
from dolce.core.room import group_of
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
    polarity: Polarity
    is_sub: bool = False
    arrival_by: Literal["sound", "plan"] = "sound"
    together_db: float = 0.0
    spread_db: float = 0.0

    @property
    def matched_db(self) -> float | None:
        """The level by which it is matched: of all that play the same, together."""
        return None if self.level_db is None else self.level_db + self.together_db


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelOptions:
    """How levels are to be matched.

    Attributes
    ----------
    band_hz : (float, float)
        Where main channels are held against each other; subs have their own.
    reference : str
        The channel that the others are brought to, with a trim of 0; empty for the softest.
    offsets_db : mapping of group or channel to dB
        By how much they are wanted louder (a channel's own counts before its group's).
    lip_sync_s : float
        A delay that all channels get besides, so that sound and picture meet.
    """

    band_hz: tuple[float, float] = LEVEL_BAND_HZ
    reference: str = ""
    offsets_db: Mapping[str, float] = field(default_factory=dict)
    lip_sync_s: float = limited(0, 0.2, where="lip-sync delay", unit="s", default=0.0)

    def __post_init__(self) -> None:
        ranges(self)
        low, high = self.band_hz
        if not 20 <= low < high <= 20_000 or high < low * 2**0.5:
            raise InvalidValue(
                f"{low:g} to {high:g} Hz is no band to match levels in.",
                where="band of levels",
                remedy="Choose at least half an octave between 20 Hz and 20 kHz.",
            )
        for name, offset in self.offsets_db.items():
            within(offset, low=-20, high=20, where=f"offset of {name}", unit="dB")

    def offset_db(self, channel: str) -> float:
        """By how much a channel is wanted louder."""
        return self.offsets_db.get(channel, self.offsets_db.get(group_of(channel), 0.0))


@dataclass(frozen=True, slots=True, kw_only=True)
class AlignmentRow:
    """One channel: its reading, and the trim and delay proposed for it.

    Attributes
    ----------
    offset_db : float
        By how much it is wanted louder than the others.
    short_db : float
        What it lacks of the level that it is wanted at, since the processor turns up no further; 0 where it reaches it.
    """

    reading: ChannelReading
    trim_db: float
    delay_s: float
    offset_db: float = 0.0
    short_db: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class AlignmentTable:
    """All rows, and what would still differ with trims and delays in steps."""

    channel_rows: tuple[AlignmentRow, ...]
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
    inside = in_band(frequency_hz, band_hz)
    return float(energy_mean_db(level_db[inside]))


def level_band_hz(*, is_sub: bool) -> tuple[float, float]:
    """The band by which a channel's level is matched."""
    return SUB_LEVEL_BAND_HZ if is_sub else LEVEL_BAND_HZ


def with_subs_by_plan(
    readings: Sequence[ChannelReading], *, distance_m: Mapping[str, float], speed_m_s: float
) -> list[ChannelReading]:
    """Readings whose subs arrive as their distance in the plan says, on the latency of the other channels.

    A sub's own filters delay what it plays by several ms, by some more than by others: lined up by that, they would
    push every main channel back. None where no main channel's arrival is known.
    """
    latencies = [
        r.arrival_s - distance_m[r.channel] / speed_m_s for r in readings if not r.is_sub and r.arrival_s is not None
    ]
    latency = median(latencies) if latencies else None
    return [
        r
        if not r.is_sub
        else replace(
            r, arrival_by="plan", arrival_s=None if latency is None else latency + distance_m[r.channel] / speed_m_s
        )
        for r in readings
    ]


def table_of_arrivals(
    readings: Sequence[ChannelReading],
    *,
    delay_step_s: float,
    trim_step_db: float = TRIM_STEP_DB,
    options: LevelOptions | None = None,
    highest_trim_db: float = 0.0,
) -> AlignmentTable:
    """Trims in steps down to the softest channel, or to the one that is the reference, delays in steps up to the
    last arrival.

    Raises
    ------
    InvalidValue
        If there are fewer than two channels.

    Notes
    -----
    Trimming only downward keeps headroom: only a reference that is louder than others turns these up, no further than
    `highest_trim_db`. A channel without a known level gets no trim, and pulls none; without all arrivals there are no
    delays.
    """
    if len(readings) < 2:
        raise InvalidValue(
            f"{len(readings)} channel measured at the main seat.",
            where="align",
            remedy="Take both channels at the main seat's centre first.",
        )
    options = options or LevelOptions()
    # Where each would be without its offset: what they are to have in common.
    common = {r.channel: r.matched_db - options.offset_db(r.channel) for r in readings if r.matched_db is not None}
    target = common.get(options.reference, min(common.values(), default=0.0))
    known = [r.arrival_s for r in readings if r.arrival_s is not None]
    last = max(known) if len(known) == len(readings) else None
    channel_rows = []
    for reading in readings:
        wanted = target - common[reading.channel] if reading.channel in common else 0.0
        highest = math.floor(highest_trim_db / trim_step_db + 1e-9) * trim_step_db
        trim = min(round(wanted / trim_step_db) * trim_step_db, max(highest, 0.0))
        short = wanted - trim if wanted - trim > trim_step_db else 0.0
        later = 0.0 if last is None or reading.arrival_s is None else last - reading.arrival_s
        delay = round(later / delay_step_s) * delay_step_s
        channel_rows.append(
            AlignmentRow(
                reading=reading,
                trim_db=round(trim, 3) + 0.0,
                delay_s=delay + (round(options.lip_sync_s / delay_step_s) * delay_step_s if last is not None else 0.0),
                offset_db=options.offset_db(reading.channel),
                short_db=short,
            )
        )
    levels = [
        r.reading.matched_db - r.offset_db + r.trim_db for r in channel_rows if r.reading.matched_db is not None
    ] or [0.0]
    arrivals = [
        r.reading.arrival_s + r.delay_s for r in channel_rows if last is not None and r.reading.arrival_s is not None
    ] or [0.0]
    return AlignmentTable(
        channel_rows=tuple(channel_rows),
        level_left_db=max(levels) - min(levels),
        arrival_left_s=max(arrivals) - min(arrivals),
    )


def match_of(readings: Sequence[ChannelReading]) -> Match | None:
    """How far channels differ; arrivals of those that were measured. None for fewer than two channels."""
    if len(readings) < 2:
        return None
    by_sound = [r for r in readings if r.arrival_by == "sound"]
    levels = {r.channel: r.matched_db for r in readings if r.matched_db is not None}
    arrivals = {r.channel: r.arrival_s for r in by_sound if r.arrival_s is not None}
    softest, loudest, level = _ends(levels if len(levels) >= 2 else {})
    earliest, latest, late = _ends(arrivals if len(arrivals) == len(by_sound) >= 2 else {})
    return Match(level_db=level, loudest=loudest, softest=softest, arrival_s=late, latest=latest, earliest=earliest)


def _ends(values: Mapping[str, float]) -> tuple[str, str, float | None]:
    """The channels of the least and the largest value, and how far these are apart; nothing of nothing."""
    if not values:
        return "", "", None
    least, most = min(values, key=lambda channel: values[channel]), max(values, key=lambda channel: values[channel])
    return least, most, values[most] - values[least]
