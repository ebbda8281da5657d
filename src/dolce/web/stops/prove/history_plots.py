"""The history of a channel, drawn: one small line for each figure, a point for each round."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from dolce.services.prove.history import HistoryPoint

WIDTH, HEIGHT = 225.0, 92.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 16.0, 16.0, 20.0, 18.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    """A point of a line, what stands at it, and its round."""

    x: float
    y: float
    text: str
    round: str


@dataclass(frozen=True, slots=True, kw_only=True)
class HistoryLine:
    """A figure from round to round: its marks, and pieces of the line between rounds that follow each other."""

    name: str
    marks: tuple[Mark, ...]
    path: str


_FIGURES: tuple[tuple[str, Callable[[HistoryPoint], float | None], Callable[[float], str]], ...] = (
    ("Deviation, dB", lambda p: p.deviation_db, lambda v: f"{v:.1f}"),
    ("Level, dB", lambda p: p.level_db, lambda v: f"{v:+.1f}"),
    ("Later than the first, ms", lambda p: p.later_s, lambda v: f"{1000 * v:.2f}"),
    ("Decay, s", lambda p: p.decay_s, lambda v: f"{v:.2f}"),
    ("Decay below 200 Hz, s", lambda p: p.bass_decay_s, lambda v: f"{v:.2f}"),
)


def history_lines(points: Sequence[HistoryPoint]) -> list[HistoryLine]:
    """Lines of a channel's figures; those that no round tells are left out."""
    return [line for name, value, text in _FIGURES if (line := _line(points, name, value, text)).marks]


def _line(
    points: Sequence[HistoryPoint],
    name: str,
    value: Callable[[HistoryPoint], float | None],
    text: Callable[[float], str],
) -> HistoryLine:
    values = [value(point) for point in points]
    known = [v for v in values if v is not None]
    low, high = min(known, default=0.0), max(known, default=1.0)
    step = (WIDTH - _LEFT - _RIGHT) / max(1, len(points) - 1)
    room = HEIGHT - _TOP - _BOTTOM

    def at(k: int, v: float) -> tuple[float, float]:
        share = 0.5 if high == low else (high - v) / (high - low)
        return round(_LEFT + k * step, 1), round(_TOP + share * room, 1)

    marks, pieces, before = [], [], None
    for k, (point, v) in enumerate(zip(points, values, strict=True)):
        if v is None:
            before = None
            continue
        x, y = at(k, v)
        marks.append(Mark(x=x, y=y, text=text(v).replace("-", "\N{MINUS SIGN}"), round=point.round.name))
        pieces.append(f"{'M' if before is None else 'L'}{x} {y}")
        before = v
    return HistoryLine(name=name, marks=tuple(marks), path="".join(pieces))
