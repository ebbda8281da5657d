"""A plan as plain values (numbers, text, lists, mappings), and back.

The shape is described, field by field, by the schema in `dolce/formats/room_schema.json`; what is read here has that
shape already, and its meaning is checked by the value objects.
"""

import dataclasses
from collections.abc import Mapping, Sequence
from typing import Any

from dolce.core.geometry import Point, RoomSize
from dolce.core.room.plan import Box, Dismissal, RoomPlan, Seat, Speaker, Spot
from dolce.core.room.surfaces import Reverberation
from dolce.errors import InvalidValue

FORMAT, VERSION = "dolce room", 1


def plan_values(plan: RoomPlan) -> dict[str, Any]:
    """The plan as plain values; lengths in metres."""
    return {
        "format": FORMAT,
        "version": VERSION,
        "room": dataclasses.asdict(plan.size),
        "layout": plan.layout,
        "mirror_pairs": plan.mirror_pairs,
        "outline": [list(corner) for corner in plan.outline],
        "speakers": [_flat(s) for s in plan.speakers],
        "seats": [_flat(s) for s in plan.seats],
        "spots": [_flat(s) for s in plan.spots],
        "drawings": [_flat(b) for b in plan.boxes],
        "reverberation": {
            "source": plan.reverberation.source,
            "typed_s": plan.reverberation.typed_s,
            "surfaces": dict(plan.reverberation.surfaces),
        },
        "dismissed": [dataclasses.asdict(d) for d in plan.dismissed],
        "aside": [_flat(s) for s in plan.aside],
        "last_spot_id": plan.last_spot_id,
    }


def plan_of(values: Mapping[str, Any]) -> RoomPlan:
    """The plan of plain values as `plan_values` gives them; parts that may be left out get their usual values.

    Raises
    ------
    InvalidValue
        If the values do not make a valid plan; `where` names the entry.
    """
    seats = _each(values, "seats", lambda v: Seat(**_placed(v, {"is_main": False})))
    return RoomPlan(
        size=RoomSize(**values["room"]),
        layout=values.get("layout", "free"),
        mirror_pairs=values.get("mirror_pairs", False),
        outline=tuple((float(x), float(y)) for x, y in values.get("outline", ())),
        speakers=_each(values, "speakers", lambda v: Speaker(**_placed(v))),
        seats=seats,
        spots=_each(values, "spots", lambda v: Spot(**_placed({"id": v["number"], "seat_id": None, **v}))),
        boxes=_each(values, "drawings", lambda v: Box(**_placed(v))),
        reverberation=Reverberation(**values.get("reverberation", {})),
        dismissed=tuple(Dismissal(**v) for v in values.get("dismissed", ())),
        aside=_each(values, "aside", lambda v: Speaker(**_placed(v))),
        last_spot_id=values.get("last_spot_id", 0),
    )


def _flat(thing: Any) -> dict[str, Any]:
    """A value object with its place as x_m, y_m, z_m."""
    return {
        **{f.name: getattr(thing, f.name) for f in dataclasses.fields(thing) if f.name != "place"},
        "x_m": thing.place.x_m,
        "y_m": thing.place.y_m,
        "z_m": thing.place.z_m,
    }


def _placed(values: Mapping[str, Any], usual: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """The reverse of `_flat`."""
    rest = {name: value for name, value in values.items() if name not in ("x_m", "y_m", "z_m")}
    return {**(usual or {}), **rest, "place": Point(x_m=values["x_m"], y_m=values["y_m"], z_m=values["z_m"])}


def _each(values: Mapping[str, Any], name: str, build: Any) -> tuple:
    """Every entry of a list, with its number in the message of a fault."""
    entries: Sequence[Mapping[str, Any]] = values.get(name, ())
    made = []
    for number, entry in enumerate(entries, 1):
        try:
            made.append(build(entry))
        except InvalidValue as error:
            raise InvalidValue(
                error.problem, where=f"{name}, entry {number}, {error.where}", remedy=error.remedy
            ) from None
    return tuple(made)
