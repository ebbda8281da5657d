"""The arrival ladder as bars."""

from dataclasses import dataclass

from dolce.core.levels import together_db
from dolce.services.align.aligning import AlignView

_WIDTH, _LEFT = 640.0, 60.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One channel: bar from 0 to its arrival, then the delay to the last one; and its table row."""

    channel: str
    level_db: float | None
    matched_db: float | None
    arrival_by: str
    arrival_ms: float | None
    arrival_x: float
    end_x: float
    trim_db: float
    delay_ms: float
    delay_samples: int
    delay_path_m: float
    measured_m: float | None
    expected_m: float
    polarity: str
    chosen_polarity: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LadderView:
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

    @classmethod
    def of(cls, view: AlignView) -> "LadderView | None":
        ladder = view.ladder
        if ladder is None:
            return None
        arrivals = [r.reading.arrival_s for r in ladder.rungs]
        known = None not in arrivals
        latest = max(arrivals) if known else 0.01
        # Bars begin at zero; the scale ends a little behind the last one.
        span_ms = max(2.0, latest * 1000 * 1.15)
        step = next(s for s in (0.5, 1, 2, 5, 10, 20, 50, 100, 1000) if span_ms / s <= 9)

        def x(milliseconds: float) -> float:
            return _LEFT + milliseconds / span_ms * _WIDTH

        rate = view.job.rig.sample_rate_hz
        rows = []
        subs = sum(r.reading.is_sub for r in ladder.rungs)
        earliest = min(arrivals) if known else 0.0
        nearest = min(view.expected_m.values())
        for rung in ladder.rungs:
            r = rung.reading
            chosen = (view.chosen or {}).get(r.channel)
            trim, delay = (chosen.trim_db, chosen.delay_s) if chosen else (rung.trim_db, rung.delay_s)
            arrival = r.arrival_s * 1000 if known else None
            rows.append(Row(
                channel=r.channel, level_db=r.level_db, matched_db=r.matched_db, arrival_by=r.arrival_by,
                arrival_ms=arrival, arrival_x=x(arrival or 0),
                end_x=x((arrival or 0) + delay * 1000), trim_db=trim, delay_ms=delay * 1000,
                delay_samples=round(delay * rate), delay_path_m=delay * view.speed_m_s,
                # The latency is not known: the nearest speaker is taken as standing where the plan has it.
                measured_m=nearest + (r.arrival_s - earliest) * view.speed_m_s if known else None,
                expected_m=view.expected_m[r.channel], polarity=r.polarity,
                chosen_polarity=chosen.polarity if chosen else
                ("inverted" if r.polarity == "inverted" else "normal")))
        proposal = {g.reading.channel: (g.trim_db, round(g.delay_s, 7)) for g in ladder.rungs}
        now = {c: (s.trim_db, round(s.delay_s, 7)) for c, s in view.chosen.items()} if view.chosen else None
        levels = [row.matched_db + row.trim_db for row in rows if row.matched_db is not None] or [0.0]
        ends = [row.arrival_ms + row.delay_ms for row in rows] if known else [0.0]
        return cls(rows=tuple(rows), ticks=tuple((x(k * step), f"{k * step:g} ms")
                                                 for k in range(int(span_ms / step) + 1)),
                   last_x=x(latest * 1000), width=_LEFT + _WIDTH + 30, delays_known=known,
                   levels_known=all(row.level_db is not None for row in rows),
                   subs=subs, together_db=together_db(subs),
                   level_left_db=max(levels) - min(levels), arrival_left_ms=max(ends) - min(ends),
                   follows_proposal=proposal == now)
