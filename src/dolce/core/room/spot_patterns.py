"""Patterns of microphone places, and the order in which a person would walk them."""

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from dolce.core.checked import Range
from dolce.core.geometry import Point, RoomSize, distance_m
from dolce.core.room.plan import RoomPlan, Seat, Spot
from dolce.errors import InvalidValue

PATTERNS = {
    "one": "One, at the seat's centre",
    "cluster": "Cluster around the seat",
    "flat": "Flat cluster, all at ear height",
    "layered": "Layered cluster, layers around ear height",
    "row": "Along the row of this seat",
    "rows": "All rows, each at its own height",
}
COUNT = Range(1, 25, "spots", whole=True)
SPACING_M = Range(0.05, 1.5, "spacing", "m")
LAYERS = Range(2, 6, "layers", whole=True)
LAYER_M = Range(0.03, 0.6, "step of layers", "m")
_SAME_ROW_M = 0.6
Placed = tuple[int | None, Point]  # number of the seat, place


def spots_by_pattern(
    plan: RoomPlan, pattern: str, *, seat_id: int, count: int, spacing_m: float, layers: int = 3, layer_m: float = 0.15
) -> list[Placed]:
    """Places of a pattern, each with the seat it belongs to, the first at the seat's centre.

    A place that would leave the room is drawn in to 10 cm from the wall.

    Parameters
    ----------
    pattern : one of PATTERNS
    count : int
        In COUNT; for rows, how many per seat.
    spacing_m : float
        In SPACING_M.
    layers, layer_m : int, float
        Of the layered cluster: how many, in LAYERS, evenly around ear height, and how far apart, in LAYER_M.

    Raises
    ------
    InvalidValue
        If the pattern is unknown, or a number lies outside its range.
    """
    if pattern not in PATTERNS:
        raise InvalidValue(f"{pattern!r} is not a pattern.", where="pattern", remedy=f"Choose {', '.join(PATTERNS)}.")
    COUNT.holds(count)
    SPACING_M.holds(spacing_m)
    LAYERS.holds(layers)
    LAYER_M.holds(layer_m)
    seat = plan.seat(seat_id)
    if pattern == "rows":
        return [place for row in rows_of(plan.seats) for place in _along_row(row, count, spacing_m, plan.size)]
    if pattern == "row":
        row = next(row for row in rows_of(plan.seats) if seat in row)
        return _along_row(row, count, spacing_m, plan.size)
    heights = {
        "cluster": (0.0, 0.5 * spacing_m, -0.5 * spacing_m),
        "layered": tuple(layer_m * (k - (layers - 1) / 2) for k in range(layers)),
    }
    points = [seat.place] if pattern == "one" else _ring(seat.place, count, spacing_m, heights.get(pattern, (0.0,)))
    return [(seat.id, _inside(p, plan.size)) for p in points]


def rows_of(seats: Sequence[Seat]) -> list[list[Seat]]:
    """Seats in rows from front to back, each row from left to right; less than 60 cm of depth apart is one row."""
    rows: list[list[Seat]] = []
    for seat in sorted(seats, key=lambda s: (s.place.y_m, s.place.x_m)):
        if rows and seat.place.y_m - rows[-1][0].place.y_m < _SAME_ROW_M:
            rows[-1].append(seat)
        else:
            rows.append([seat])
    return [sorted(row, key=lambda s: s.place.x_m) for row in rows]


def numbered(plan: RoomPlan, placed: Sequence[Placed]) -> tuple[Spot, ...]:
    """Spots numbered from 1 in walking order: the main seat's centre first, then always a short way on.

    The way is the nearest next place each time, then shortened by turning round parts of it as long as that helps.
    A spot that the plan has at a place already stays the same spot; new ones get ids that none ever had.
    """
    if not placed:
        return ()
    main = plan.main_seat
    at_main = [k for k, (seat_id, _) in enumerate(placed) if seat_id == main.id]
    first = min(at_main or range(len(placed)), key=lambda k: distance_m(placed[k][1], main.place))
    places = np.array([[p.x_m, p.y_m, p.z_m] for _, p in placed])
    apart = np.linalg.norm(places[:, None] - places[None], axis=2)
    order = _shortened(_nearest_next(apart, first), apart)
    present = {(s.seat_id, s.place): s for s in plan.spots}
    spots, last = [], plan.last_spot_id
    for number, k in enumerate(order, 1):
        spot = present.pop(placed[k], None)
        last += spot is None
        spots.append(
            replace(spot, number=number)
            if spot is not None
            else Spot(id=last, number=number, seat_id=placed[k][0], place=placed[k][1])
        )
    return tuple(spots)


def _ring(centre: Point, count: int, spacing_m: float, heights: Sequence[float]) -> list[Point]:
    """The centre, then the others on a ring around it, at the heights in turn."""
    points = [centre]
    for k in range(count - 1):
        angle = 2 * math.pi * k / (count - 1)
        points.append(
            centre.along(
                x_m=spacing_m * math.sin(angle), y_m=-spacing_m * math.cos(angle), z_m=heights[k % len(heights)]
            )
        )
    return points


def _along_row(row: Sequence[Seat], count: int, spacing_m: float, size: RoomSize) -> list[Placed]:
    """At every seat of a row its centre, and `count - 1` places to its right and left in turn."""
    placed: list[Placed] = []
    for seat in row:
        for k in range(count):
            aside = (k + 1) // 2 * spacing_m * (1 if k % 2 else -1)
            placed.append((seat.id, _inside(seat.place.along(x_m=aside), size)))
    return placed


def _inside(point: Point, size: RoomSize) -> Point:
    """The point to a centimetre, 10 cm off the walls at least."""
    return Point(
        x_m=_kept(point.x_m, size.width_m), y_m=_kept(point.y_m, size.length_m), z_m=_kept(point.z_m, size.height_m)
    )


def _kept(value: float, size: float) -> float:
    return round(min(max(value, 0.1), size - 0.1), 2)


def _nearest_next(apart: np.ndarray, first: int) -> list[int]:
    order, remaining = [first], [k for k in range(len(apart)) if k != first]
    while remaining:
        nearest = min(remaining, key=lambda k: (round(apart[order[-1], k], 6), k))
        order.append(nearest)
        remaining.remove(nearest)
    return order


def _shortened(order: list[int], apart: np.ndarray) -> list[int]:
    """Stretches turned round while the way gets shorter (2-opt); the start stays."""
    better = True
    while better:
        better = False
        for i in range(1, len(order) - 1):
            for j in range(i + 1, len(order)):
                now = apart[order[i - 1], order[i]] + (apart[order[j], order[j + 1]] if j + 1 < len(order) else 0)
                turned = apart[order[i - 1], order[j]] + (apart[order[i], order[j + 1]] if j + 1 < len(order) else 0)
                if turned < now - 1e-9:
                    order[i : j + 1] = reversed(order[i : j + 1])
                    better = True
    return order
