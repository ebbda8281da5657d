"""Patterns of microphone places around a seat."""

import math

from dolce.core import checked
from dolce.core.geometry.placement import Point, RoomSize


def cluster(centre: Point, *, count: int, spacing_m: float, room: RoomSize) -> list[Point]:
    """The centre first, then `count - 1` spots around it at alternating heights.

    The others stand on a ring of radius `spacing_m`, with heights 0, +half and -half the spacing in turn, so that
    standing waves in all three directions are sampled. A spot that would leave the room is drawn in to 10 cm from
    the wall.

    Parameters
    ----------
    count : int
        1 to 25.
    spacing_m : float
        0.05 to 1.5 m.

    Raises
    ------
    InvalidValue
        If count or spacing lies outside its range.
    """
    checked.within(count, low=1, high=25, where="spots")
    checked.within(spacing_m, low=0.05, high=1.5, where="spacing", unit="m")
    points = [centre]
    for k in range(count - 1):
        angle = 2 * math.pi * k / (count - 1)
        height = (0.0, 0.5, -0.5)[k % 3] * spacing_m
        points.append(Point(
            x_m=_kept(centre.x_m + spacing_m * math.sin(angle), room.width_m),
            y_m=_kept(centre.y_m - spacing_m * math.cos(angle), room.length_m),
            z_m=_kept(centre.z_m + height, room.height_m),
        ))
    return points


def _kept(value: float, size: float) -> float:
    """`value` rounded to a centimetre and kept 10 cm off both ends of 0..size."""
    return round(min(max(value, 0.1), size - 0.1), 2)
