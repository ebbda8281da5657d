"""Where a microphone goes, as one would set a stand with a tape measure."""

from dataclasses import dataclass
from typing import Literal

from dolce.core.geometry import Point, RoomSize


@dataclass(frozen=True, slots=True, kw_only=True)
class Tape:
    """Distances of a place to what is near, in m.

    Attributes
    ----------
    side, side_m : the nearer side wall
    end, end_m : the nearer of the walls in front and behind
    up_m, ceiling_m : above the floor, and under the ceiling
    """

    side: Literal["left", "right"]
    side_m: float
    end: Literal["front", "back"]
    end_m: float
    up_m: float
    ceiling_m: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """From one place to another, in m: to the right, back, up (the other ways below 0), and the whole way."""

    right_m: float
    back_m: float
    up_m: float

    @property
    def distance_m(self) -> float:
        return (self.right_m**2 + self.back_m**2 + self.up_m**2) ** 0.5


def tape_of(place: Point, room: RoomSize) -> Tape:
    """Distances of a place inside a box room to the nearer walls, floor and ceiling."""
    right, back = room.width_m - place.x_m, room.length_m - place.y_m
    return Tape(
        side="left" if place.x_m <= right else "right",
        side_m=min(place.x_m, right),
        end="front" if place.y_m <= back else "back",
        end_m=min(place.y_m, back),
        up_m=place.z_m,
        ceiling_m=room.height_m - place.z_m,
    )


def move_of(before: Point, after: Point) -> Move:
    """How a microphone moves from one place to the next."""
    return Move(right_m=after.x_m - before.x_m, back_m=after.y_m - before.y_m, up_m=after.z_m - before.z_m)
