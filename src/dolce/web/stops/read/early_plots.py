"""Early reflections on Read: the curve at a seat, the list, and where they touch, on the plan and from the side."""

from dataclasses import dataclass

import numpy as np

from dolce.core.reading import Reflection
from dolce.services.read.early import SeatReflections
from dolce.services.read.reading import ReadView
from dolce.words.numbers import hertz, signed

_MARGIN, _WIDTH = 14.0, 250.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ReflectionRow:
    """One reflection in words; its number stands at the curve and on the drawings."""

    number: int
    after: str
    level: str
    worst: str
    surface: str
    spots: str
    direction: str
    breaks: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class SeatRows:
    """The reflections at a seat; `without` where nothing can be told."""

    seat: str
    rows: tuple[ReflectionRow, ...]
    without: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomDrawing:
    """The room from above or from the side: places in the units of the drawing."""

    name: str
    width: float
    height: float
    speaker: tuple[float, float]
    listener: tuple[float, float]
    points: tuple[tuple[int, float, float], ...]


def seat_rows(view: ReadView) -> list[SeatRows]:
    """Every seat's reflections, in words."""
    return [
        SeatRows(
            seat=at.seat.name,
            rows=tuple(_row(view, number, bounce.reflection) for number, bounce in enumerate(at.bounces, 1)),
            without=at.without,
        )
        for at in view.early
    ]


def _row(view: ReadView, number: int, found: Reflection) -> ReflectionRow:
    surface = found.surface or "no surface of the plan"
    if found.expected_s is not None:
        surface += f", expected at {1000 * found.expected_s:.1f} ms"
    return ReflectionRow(
        number=number,
        after=f"{1000 * found.later_s:.1f} ms",
        level=f"{signed(found.level_db)} dB",
        worst="–" if found.worst_db is None else f"{signed(found.worst_db)} dB, {hertz(found.worst_hz or 0)}",
        surface=surface,
        spots=f"{found.spots} of {found.of_spots}",
        direction="–" if found.off_deg is None else f"{found.off_deg:.0f}° off",
        breaks=found.breaks(within_ms=view.options.early_ms, below_db=view.options.early_db),
    )


def front_seat(view: ReadView) -> SeatReflections | None:
    """The seat that is drawn: the chosen one, else the main seat, else the first that tells anything."""
    wanted = view.options.place.seat or view.job.seat.id
    told = [at for at in view.early if at.curve is not None]
    return next((at for at in told if at.seat.id == wanted), told[0] if told else None)


def early_plot(view: ReadView) -> dict | None:
    """Energy of the first 30 ms at the seat in front, its reflections by number, the others faintly."""
    front = front_seat(view)
    if front is None:
        return None
    options = view.options
    seats = [at for at in view.early if at.curve is not None and at is not front]
    curves = [
        {
            "label": at.seat.name,
            "channel": view.front,
            "state": "after" if at is front else "faint",
            "note": "",
            "quiet": at is not front,
            "x": np.round(1000 * at.curve.time_s, 3).tolist(),
            "y": np.round(at.curve.value, 1).tolist(),
        }
        for at in (*seats, front)
        if at.curve is not None
    ]
    curves.append(
        {
            "label": "criterion",
            "channel": view.front,
            "state": "target",
            "note": "",
            "x": [0.0, options.early_ms],
            "y": [options.early_db, options.early_db],
        }
    )
    return {
        "kind": "impulse",
        "xRange": [-2.0, 30.0],
        "unit": "dB",
        "yRange": [-50, 5],
        "curves": curves[::-1],
        "marks": [
            {"x": round(1000 * bounce.reflection.later_s, 2), "label": str(number)}
            for number, bounce in enumerate(front.bounces, 1)
        ],
    }


def room_drawings(view: ReadView) -> tuple[RoomDrawing, RoomDrawing] | None:
    """From above, and from the left side: loudspeaker, listener, and where the sound touches."""
    front = front_seat(view)
    if front is None:
        return None
    size = view.job.plan.size
    scale = _WIDTH / size.length_m
    height = size.height_m

    def drawing(name: str, across: int, down: int, extent: tuple[float, float], flipped: bool) -> RoomDrawing:
        def at(place: tuple[float, float, float]) -> tuple[float, float]:
            y = height - place[down] if flipped else place[down]
            return round(_MARGIN + scale * place[across], 1), round(_MARGIN + scale * y, 1)

        return RoomDrawing(
            name=name,
            width=round(2 * _MARGIN + scale * extent[0], 1),
            height=round(2 * _MARGIN + scale * extent[1], 1),
            speaker=at(front.speaker_m),
            listener=at(front.listener_m),
            points=tuple(
                (number, *at(bounce.at_m)) for number, bounce in enumerate(front.bounces, 1) if bounce.at_m is not None
            ),
        )

    return (
        drawing("From above, front wall on the left", 1, 0, (size.length_m, size.width_m), flipped=False),
        drawing("From the side", 1, 2, (size.length_m, height), flipped=True),
    )
