"""Moving what stands in a plan, and what moves along with it."""

import re
from dataclasses import replace

from dolce.core.geometry import Point
from dolce.core.room.plan import RoomPlan
from dolce.errors import NotFound

_COUNTED = re.compile(r"(seat|spot|box|corner)-([0-9]{1,9})", re.ASCII)


def _key(thing: str) -> tuple[str, int]:
    """Kind and number of a thing's key; "" and 0 for speakers, whose key is their channel."""
    found = _COUNTED.fullmatch(thing)
    return (found[1], int(found[2])) if found else ("", 0)


def label_of(plan: RoomPlan, thing: str) -> str:
    """The name in words of a thing's key ("L", "seat-1", "spot-3", "box-2", "corner-1"); spots and seats by id."""
    kind, number = _key(thing)
    if kind == "seat":
        return plan.seat(number).name
    if kind == "spot":
        return f"spot {plan.spot(number).number}"
    if kind == "box":
        return plan.box(number).title
    if kind == "corner":
        return f"corner {number}"
    return plan.speaker(thing).channel


def place_of(plan: RoomPlan, thing: str) -> Point:
    """Where a thing stands; corners of the outline lie on the floor."""
    kind, number = _key(thing)
    if kind == "seat":
        return plan.seat(number).place
    if kind == "spot":
        return plan.spot(number).place
    if kind == "box":
        return plan.box(number).place
    if kind == "corner":
        x, y = plan.outline[_corner(plan, number)]
        return Point(x_m=x, y_m=y, z_m=0.0)
    return plan.speaker(thing).place


def moved(plan: RoomPlan, thing: str, place: Point) -> RoomPlan:
    """The plan with one thing at another place.

    With `mirror_pairs` the partner of a speaker goes to the mirror image over the middle of the width. A seat takes
    its spots along; one that would leave the room is drawn in to 10 cm from the wall.

    Raises
    ------
    InvalidValue
        If something would stand outside, or two speakers in one place.
    NotFound
        If there is no such thing.
    """
    kind, number = _key(thing)
    if kind == "seat":
        return _seat_moved(plan, number, place)
    if kind == "spot":
        plan.spot(number)
        return replace(plan, spots=tuple(replace(s, place=place) if s.id == number else s for s in plan.spots))
    if kind == "box":
        chosen = plan.box(number).id
        plan.size.require_inside(_nudged(place, plan), where=label_of(plan, thing))
        return replace(plan, boxes=tuple(replace(b, place=place) if b.id == chosen else b for b in plan.boxes))
    if kind == "corner":
        at = _corner(plan, number)
        outline = tuple((place.x_m, place.y_m) if k == at else c for k, c in enumerate(plan.outline))
        return replace(plan, outline=outline)
    speaker = plan.speaker(thing)
    speakers = [replace(s, place=place) if s is speaker else s for s in plan.speakers]
    if plan.mirror_pairs and speaker.partner in plan.channels:
        mirrored = Point(x_m=round(plan.size.width_m - place.x_m, 6), y_m=place.y_m, z_m=place.z_m)
        speakers = [replace(s, place=mirrored) if s.channel == speaker.partner else s for s in speakers]
    return replace(plan, speakers=tuple(speakers))


def _seat_moved(plan: RoomPlan, seat_id: int, place: Point) -> RoomPlan:
    seat = plan.seat(seat_id)
    plan.require_inside(place, where=seat.name)
    by = (place.x_m - seat.place.x_m, place.y_m - seat.place.y_m, place.z_m - seat.place.z_m)
    size = plan.size

    def along(p: Point) -> Point:
        return Point(
            x_m=_kept(p.x_m + by[0], size.width_m),
            y_m=_kept(p.y_m + by[1], size.length_m),
            z_m=_kept(p.z_m + by[2], size.height_m),
        )

    return replace(
        plan,
        seats=tuple(replace(s, place=place) if s is seat else s for s in plan.seats),
        spots=tuple(replace(s, place=along(s.place)) if s.seat_id == seat_id else s for s in plan.spots),
    )


def _kept(value: float, size: float) -> float:
    return round(min(max(value, 0.1), size - 0.1), 4)


def _nudged(place: Point, plan: RoomPlan) -> Point:
    """A box may touch walls, floor and ceiling with its middle."""

    def between(value: float, size: float) -> float:
        return value if not 0 <= value <= size else min(max(value, 1e-6), size - 1e-6)

    return Point(
        x_m=between(place.x_m, plan.size.width_m),
        y_m=between(place.y_m, plan.size.length_m),
        z_m=between(place.z_m, plan.size.height_m),
    )


def _corner(plan: RoomPlan, number: int) -> int:
    if not 1 <= number <= len(plan.outline):
        raise NotFound(f"no corner {number} in this outline.", where="outline", remedy="Reload the page.")
    return number - 1
