"""The arrival alignment table as rows of bars and figures."""

from dataclasses import dataclass, replace

from dolce.core.alignment import AlignmentRow, OffPlan
from dolce.core.dsp import together_db
from dolce.core.processor import ChannelSettings
from dolce.core.subs import SUBS
from dolce.core.tuning import Alignment, changed_outputs
from dolce.services.align.aligning import AlignView
from dolce.words.numbers import length, signed

WIDTH, WHISKER = 300.0, 64.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One output, or the subs as one (`channel` is then "subs", and `subs` has their rows).

    A bar runs from 0 to the arrival, then the delay to the last one; x in units of the drawing. `whisker` is the level
    over all levels of the alignment table, with its spread over the spots to both sides: lowest, middle, highest.
    """

    channel: str
    level_db: float | None
    spread_db: float
    matched_db: float | None
    offset_db: float
    short_db: float
    arrival_by: str
    arrival_ms: float | None
    arrival_x: float
    end_x: float
    trim_db: float
    delay_ms: float
    delay_samples: int
    delay_path_m: float
    measured_m: float | None
    expected_m: float | None
    polarity: str
    mate: str
    chosen_polarity: str
    whisker: tuple[float, float, float] | None = None
    subs: tuple["Row", ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class AlignmentTableView:
    """Rows, the time scale and what would still differ."""

    rows: tuple[Row, ...]
    ticks: tuple[tuple[float, str], ...]
    last_x: float
    width: float
    level_left_db: float
    arrival_left_ms: float
    delays_known: bool
    levels_known: bool
    subs: int
    together_db: float
    follows_proposal: bool
    later_ms: float
    total_ms: float | None

    @property
    def outputs(self) -> tuple[Row, ...]:
        """Rows of outputs, those of the group included."""
        return tuple(row_ for row in self.rows for row_ in (row.subs or (row,)))

    @classmethod
    def of(cls, view: AlignView) -> "AlignmentTableView | None":
        alignment_table = view.alignment_table
        if alignment_table is None:
            return None
        arrivals = [r.reading.arrival_s for r in alignment_table.channel_rows if r.reading.arrival_s is not None]
        known = len(arrivals) == len(alignment_table.channel_rows)
        latest = max(arrivals) if known else 0.01
        chosen = view.chosen or {}
        # Bars begin at zero; the scale ends a little behind the last of what sounds, or is delayed, by then.
        ends = [
            (r.reading.arrival_s or 0.0)
            + (chosen[r.reading.channel].delay_s if r.reading.channel in chosen else r.delay_s)
            for r in alignment_table.channel_rows
        ]
        span_ms = max(2.0, 1000 * max(latest, *ends, *(s.delay_s for s in chosen.values()), 0.0) * 1.05)
        scale = _Scale(span_ms)
        group = view.alignment.subs if view.alignment else None
        judged = view.proposal.judged
        rows = []
        for channel_row in alignment_table.channel_rows:
            if channel_row.reading.channel == SUBS and group is not None:
                subs = tuple(
                    _row(view, channel_row, scale, known=known, channel=sub, settings=chosen.get(sub))
                    for sub in group.settings
                )
                rows.append(_row(view, channel_row, scale, known=known, channel=SUBS, settings=None, subs=subs))
            else:
                judged_polarity = judged.get(channel_row.reading.channel)
                rows.append(
                    _row(
                        view,
                        channel_row,
                        scale,
                        known=known,
                        channel=channel_row.reading.channel,
                        settings=chosen.get(channel_row.reading.channel),
                        mate=judged_polarity.mate if judged_polarity else "",
                    )
                )
        rows = _with_whiskers(rows)
        levels = [row.matched_db - row.offset_db + row.trim_db for row in rows if row.matched_db is not None] or [0.0]
        main_channels = [row for row in rows if row.channel != SUBS]
        ends = [row.arrival_ms + row.delay_ms for row in main_channels if known and row.arrival_ms is not None] or [0.0]
        sub_count = sum(s.is_sub for s in view.job.speakers)
        first_ms = min((row.delay_ms for row in main_channels), default=0.0)
        latency_s = view.proposal.latency_s
        return cls(
            rows=tuple(rows),
            ticks=scale.ticks,
            last_x=scale.x(latest * 1000),
            width=WIDTH,
            delays_known=known,
            levels_known=all(row.level_db is not None for row in rows),
            subs=sub_count,
            together_db=together_db(sub_count),
            level_left_db=max(levels) - min(levels),
            arrival_left_ms=max(ends) - min(ends),
            follows_proposal=_follows(view),
            later_ms=first_ms - 1000 * view.options.lip_sync_s,
            total_ms=None if latency_s is None else 1000 * latency_s + first_ms,
        )


def _with_whiskers(rows: list[Row]) -> list[Row]:
    """Rows with their levels beside each other on one scale."""
    known = [(row.level_db, row.spread_db) for row in rows if row.level_db is not None]
    if not known:
        return rows
    low = min(level - spread for level, spread in known)
    span = max(max(level + spread for level, spread in known) - low, 1.0)

    def x(level_db: float) -> float:
        return 3 + (level_db - low) / span * (WHISKER - 6)

    return [
        row
        if row.level_db is None
        else replace(row, whisker=(x(row.level_db - row.spread_db), x(row.level_db), x(row.level_db + row.spread_db)))
        for row in rows
    ]


class _Scale:
    """Milliseconds to units of the drawing."""

    def __init__(self, span_ms: float) -> None:
        self._span = span_ms
        step = next(s for s in (0.5, 1, 2, 5, 10, 20, 50, 100, 1000) if span_ms / s <= 6)
        self.ticks = tuple((self.x(k * step), f"{k * step:g}") for k in range(int(span_ms / step) + 1))

    def x(self, milliseconds: float) -> float:
        return milliseconds / self._span * WIDTH


def _row(
    view: AlignView,
    channel_row: AlignmentRow,
    scale: _Scale,
    *,
    known: bool,
    channel: str,
    settings: ChannelSettings | None,
    subs: tuple[Row, ...] = (),
    mate: str = "",
) -> Row:
    r = channel_row.reading
    is_alone = channel == r.channel and not subs  # an output with a reading of its own
    trim, delay = (settings.trim_db, settings.delay_s) if settings else (channel_row.trim_db, channel_row.delay_s)
    arrival = r.arrival_s * 1000 if known and r.arrival_s is not None else None
    if not is_alone:
        # Subs by phase at the crossover: their bar is the delay that they have alone.
        arrival = None
        delay = settings.delay_s if settings else min((sub.delay_ms / 1000 for sub in subs), default=0.0)
    every = [] if view.alignment_table is None else [g.reading.arrival_s for g in view.alignment_table.channel_rows]
    earliest = min((late_s for late_s in every if late_s is not None), default=0.0) if known else 0.0
    nearest = min(view.expected_m.values())
    return Row(
        channel=channel,
        level_db=r.level_db if is_alone or subs else None,
        spread_db=r.spread_db if is_alone or subs else 0.0,
        matched_db=r.matched_db,
        offset_db=channel_row.offset_db,
        short_db=channel_row.short_db if is_alone or subs else 0.0,
        arrival_by=r.arrival_by,
        arrival_ms=arrival if is_alone else None if not known else 0.0,
        arrival_x=scale.x(arrival or 0),
        end_x=scale.x((arrival or 0) + delay * 1000),
        trim_db=trim,
        delay_ms=delay * 1000,
        delay_samples=round(delay * view.job.rig.sample_rate_hz),
        delay_path_m=delay * view.speed_m_s,
        # The latency is not known: the nearest speaker is taken as standing where the plan has it.
        measured_m=None if not is_alone or arrival is None else nearest + (arrival / 1000 - earliest) * view.speed_m_s,
        expected_m=view.expected_m.get(channel),
        polarity=r.polarity if is_alone else "",
        mate=mate,
        chosen_polarity=settings.polarity if settings else ("inverted" if r.polarity == "inverted" else "normal"),
        subs=subs,
    )


def _follows(view: AlignView) -> bool:
    """Whether what is chosen is what is proposed now."""
    if not view.chosen or view.alignment_table is None:
        return False
    channel_rows = {g.reading.channel: g for g in view.alignment_table.channel_rows}
    main_channels = [g for channel, g in channel_rows.items() if channel in view.chosen]
    later = min((view.chosen[g.reading.channel].delay_s - g.delay_s for g in main_channels), default=0.0)
    step = 1.01 / view.job.rig.sample_rate_hz
    if any(
        abs(view.chosen[g.reading.channel].trim_db - g.trim_db) > 1e-6
        or abs(view.chosen[g.reading.channel].delay_s - g.delay_s - later) > step
        for g in main_channels
    ):
        return False
    return SUBS in channel_rows or abs(later) <= step


def off_words(off: OffPlan, units: str) -> str:
    """What does not fit the plan, and why, likeliest; lengths in the job's units."""
    direction = "later" if off.off_s > 0 else "earlier"
    late = f"{off.channel} arrives {abs(off.off_s) * 1000:.1f} ms {direction} than its place"
    match off.reason:
        case "wire":
            return f"{late} says, and {off.other} comes from there: their wires are likely swapped."
        case "delay":
            return f"{late} says: likeliest a delay is hidden in its path, such as a radio link or its own processing."
        case "delay of others":
            return f"{late} says: likeliest the others pass a delay that it does not."
        case "place":
            return f"{late} says: likeliest its place is typed wrong by {length(abs(off.off_m), units)}."


def change_words(before: Alignment, after: Alignment) -> str:
    """What an alignment would change of another, the first few outputs in words."""
    changes = changed_outputs(before, after)
    words = [
        f"{change.channel} {signed(change.trim_db)} dB, {signed(change.delay_s * 1000, 2)} ms"
        + (", inverted" if change.turned else "")
        for change in changes[:4]
    ]
    if before.routing != after.routing:
        words.append("other routes")
    return ("; ".join(words) or "the same") + (f"; {len(changes) - 4} more outputs" if len(changes) > 4 else "")
