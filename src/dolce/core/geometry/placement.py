"""The box, points in it, distances and angles.

Origin: the front left corner of the floor, seen by a listener facing the front wall. x runs to the right, y from the
front wall to the back, z up; all in metres.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomSize:
    """A box of 1 to 30 m by 1 to 30 m, 1.5 to 12 m high; air at 0 to 40 degrees Celsius."""

    length_m: float = limited(1, 30, where="length", unit="m")
    width_m: float = limited(1, 30, where="width", unit="m")
    height_m: float = limited(1.5, 12, where="height", unit="m")
    temperature_c: float = limited(0, 40, where="temperature", unit="°C", default=20.0)

    def __post_init__(self) -> None:
        ranges(self)

    @property
    def volume_m3(self) -> float:
        return self.length_m * self.width_m * self.height_m

    def require_inside(self, point: "Point", *, where: str) -> None:
        """Raise InvalidValue naming the axis, if `point` is not inside the box."""
        for axis, value, size in (
            ("x", point.x_m, self.width_m),
            ("y", point.y_m, self.length_m),
            ("z", point.z_m, self.height_m),
        ):
            if not 0 < value < size:
                raise InvalidValue(
                    f"{axis} = {value:.2f} m lies outside the room.",
                    where=where,
                    remedy=f"Choose a value between 0 and {size:.2f} m.",
                )


@dataclass(frozen=True, slots=True, kw_only=True)
class Point:
    """A place in the room in metres from its origin."""

    x_m: float
    y_m: float
    z_m: float

    def __post_init__(self) -> None:
        checked.finite([self.x_m, self.y_m, self.z_m], where="place")

    def along(self, *, x_m: float = 0.0, y_m: float = 0.0, z_m: float = 0.0) -> "Point":
        """The point shifted by so much."""
        return Point(x_m=self.x_m + x_m, y_m=self.y_m + y_m, z_m=self.z_m + z_m)

    def as_array(self) -> NDArray[np.float64]:
        return np.array([self.x_m, self.y_m, self.z_m])


def distance_m(a: Point, b: Point) -> float:
    """Straight distance between two points, in metres."""
    return math.dist((a.x_m, a.y_m, a.z_m), (b.x_m, b.y_m, b.z_m))


def azimuth_deg(of: Point, *, seen_from: Point) -> float:
    """Angle in the plan from straight ahead (the front wall), positive to the right, in degrees (-180, 180]."""
    return math.degrees(math.atan2(of.x_m - seen_from.x_m, seen_from.y_m - of.y_m))


def elevation_deg(of: Point, *, seen_from: Point) -> float:
    """Angle above (positive) or below the horizontal, in degrees -90 to 90."""
    across = math.hypot(of.x_m - seen_from.x_m, of.y_m - seen_from.y_m)
    return math.degrees(math.atan2(of.z_m - seen_from.z_m, across))


def pair_angle_deg(left: Point, right: Point, *, seen_from: Point) -> float:
    """Angle in the plan between two speakers at the listener, in degrees, 0 to 180."""
    turn = azimuth_deg(right, seen_from=seen_from) - azimuth_deg(left, seen_from=seen_from)
    return abs((turn + 180) % 360 - 180)
