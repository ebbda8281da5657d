"""Placing a layout in a room: every channel at its reference angle, at a sensible distance."""

import math
from collections.abc import Iterable
from dataclasses import replace

from dolce.core.geometry import Point, RoomSize, inside_outline
from dolce.core.room.channels import SUB_CODES, partner_of
from dolce.core.room.layouts import LAYOUTS, Reference, reference_of, usual_subs
from dolce.core.room.plan import RoomPlan, Seat, Speaker
from dolce.core.room.spot_patterns import numbered, spots_by_pattern
from dolce.errors import InvalidValue

EAR_HEIGHT_M = 1.2
TYPICAL_LOW_LIMIT_HZ = 50.0  # of a main whose own nobody typed
_WALL_M = 0.35  # kept between a new speaker and any wall
_FARTHEST_M = 3.5
_OVERHEAD_DEG = 42.0  # in the middle of the allowed 30 to 55
_SUB_HEIGHT_M = 0.25
# Where new subs go, as parts of width and length: middles of the walls, which drive the fewest modes unevenly.
_SUB_PLACES = ((0.5, 0.0), (0.5, 1.0), (0.0, 0.5), (1.0, 0.5))


USUAL_SIZE = RoomSize(length_m=4.6, width_m=3.6, height_m=2.5)  # of a room that nobody has measured yet


def new_plan(
    size: RoomSize = USUAL_SIZE,
    *,
    layout: str = "2.0",
    subs: int | None = None,
    seat_name: str = "Mixer",
    spots: int = 9,
) -> RoomPlan:
    """A plan with one seat in the front half, the layout's speakers around it, and a cluster of spots."""
    seat = Seat(
        id=1,
        name=seat_name,
        is_main=True,
        place=Point(
            x_m=round(size.width_m / 2, 2),
            y_m=round(0.42 * size.length_m, 2),
            z_m=min(EAR_HEIGHT_M, size.height_m - 0.3),
        ),
    )
    known = dict.fromkeys(LAYOUTS.get(layout, {"L": None, "R": None}))
    bare = RoomPlan(
        size=size,
        layout=layout,
        seats=(seat,),
        speakers=(_new_speaker(next(iter(known)), layout, seat.place, size, (), output=1),),
    )
    plan = with_layout(bare, layout, subs=usual_subs(layout) if subs is None else subs)
    cluster = spots_by_pattern(plan, "cluster", seat_id=1, count=spots, spacing_m=0.25)
    return replace(plan, spots=numbered(plan, cluster))


def with_layout(plan: RoomPlan, layout: str, *, subs: int) -> RoomPlan:
    """The plan with another layout and number of subs.

    What was placed keeps its place. Channels that the layout lacks are set aside with everything known of them and
    come back with the next layout that has them; free channels stay. In a free layout all stay.

    Raises
    ------
    InvalidValue
        If the layout is unknown, or subs are not 0 to 4.
    """
    if not 0 <= subs <= len(SUB_CODES):
        raise InvalidValue(f"{subs} subs.", where="subs", remedy=f"Choose 0 to {len(SUB_CODES)}.")
    wanted = tuple(LAYOUTS[layout]) if layout in LAYOUTS else tuple(s.channel for s in plan.main_channels)
    known = set(LAYOUTS["9.1.6"]) | set(SUB_CODES)
    free = tuple(s.channel for s in plan.speakers if s.channel not in known)
    codes = (*wanted, *(c for c in free if c not in wanted), *SUB_CODES[:subs])
    return _with_channels(replace(plan, layout=layout), codes)


def with_channel(plan: RoomPlan, code: str, *, name: str = "") -> RoomPlan:
    """The plan with one channel more: set aside before, known, or free; free ones need a name."""
    if code in plan.channels:
        raise InvalidValue(f"{code} is there already.", where="channel", remedy="Choose another code.")
    fresh = _with_channels(plan, (*plan.channels, code))
    speaker = fresh.speaker(code)
    return fresh.replaced(replace(speaker, name=name.strip())) if name.strip() else fresh


def without_channel(plan: RoomPlan, code: str) -> RoomPlan:
    """The plan without one channel, which is set aside."""
    plan.speaker(code)
    return _with_channels(plan, tuple(c for c in plan.channels if c != code))


def _with_channels(plan: RoomPlan, codes: tuple[str, ...]) -> RoomPlan:
    """Exactly these channels, in this order: present ones, those set aside, and new ones."""
    present = {s.channel: s for s in plan.speakers}
    aside = {s.channel: s for s in plan.aside}
    made: list[Speaker] = []
    outputs = {present[c].output for c in codes if c in present}
    for code in codes:
        speaker = present.get(code)
        if speaker is None:
            speaker = aside.get(code)
            if speaker is None or not _free_place(plan, speaker.place, [*present.values(), *made]):
                others = [s.place for s in (*present.values(), *made)]
                speaker = _new_speaker(code, plan.layout, plan.main_seat.place, plan.size, others, output=1, plan=plan)
            if speaker.output in outputs or speaker.channel not in aside:
                speaker = replace(speaker, output=next(k for k in range(1, 99) if k not in outputs))
            outputs.add(speaker.output)
        made.append(speaker)
    rest = [s for s in (*plan.aside, *plan.speakers) if s.channel not in codes]
    unique = {s.channel: s for s in rest}
    spots = tuple(replace(s, close_to="") if s.close_to and s.close_to not in codes else s for s in plan.spots)
    return replace(plan, speakers=tuple(made), aside=tuple(unique.values()), spots=spots)


def _free_place(plan: RoomPlan, place: Point, others: list[Speaker]) -> bool:
    """Whether a speaker could stand there now."""
    try:
        plan.require_inside(place, where="")
    except InvalidValue:
        return False
    return all(
        math.dist((place.x_m, place.y_m, place.z_m), (o.place.x_m, o.place.y_m, o.place.z_m)) >= 0.05 for o in others
    )


def _new_speaker(
    code: str,
    layout: str,
    seat: Point,
    size: RoomSize,
    taken: Iterable[Point],
    *,
    output: int,
    plan: RoomPlan | None = None,
) -> Speaker:
    """A speaker at its reference direction, or at a free place near the front wall."""
    others = list(taken)
    if code in SUB_CODES:
        across, along = _SUB_PLACES[SUB_CODES.index(code)]
        place = Point(
            x_m=round(0.4 + across * (size.width_m - 0.8), 2),
            y_m=round(0.4 + along * (size.length_m - 0.8), 2),
            z_m=_SUB_HEIGHT_M,
        )
        return Speaker(
            channel=code, place=_clear(place, others, size, plan, apart_m=0.5), output=output, low_limit_hz=25.0
        )
    reference = reference_of(layout, code)
    if reference is None:
        place = Point(x_m=size.width_m / 2, y_m=_WALL_M, z_m=min(EAR_HEIGHT_M, size.height_m - 0.2))
    else:
        place = place_at(reference, seat=seat, size=size)
    return Speaker(
        channel=code,
        place=_clear(place, others, size, plan),
        output=output,
        low_limit_hz=TYPICAL_LOW_LIMIT_HZ,
        partner=partner_of(code),
    )


def place_at(reference: Reference, *, seat: Point, size: RoomSize, distance_m: float | None = None) -> Point:
    """The place in a reference direction from a seat, as far away as the room and good sense allow.

    Parameters
    ----------
    distance_m : float or None
        Along the floor; None for up to 3.5 m with 35 cm left to the walls. Drawn in where the room is smaller.
    """
    angle = math.radians(reference.azimuth_deg)
    across, ahead = math.sin(angle), -math.cos(angle)
    reach = min(_room_along(seat.x_m, across, size.width_m), _room_along(seat.y_m, ahead, size.length_m))
    farthest = max(0.3, min(reach, _FARTHEST_M if distance_m is None else distance_m))
    if reference.overhead:
        rise = size.height_m - 0.15 - seat.z_m
        farthest = min(farthest, max(0.3, rise / math.tan(math.radians(_OVERHEAD_DEG))))
        height = min(size.height_m - 0.1, seat.z_m + farthest * math.tan(math.radians(_OVERHEAD_DEG)))
    else:
        height = seat.z_m
    return Point(
        x_m=round(_kept(seat.x_m + across * farthest, size.width_m), 2),
        y_m=round(_kept(seat.y_m + ahead * farthest, size.length_m), 2),
        z_m=round(height, 2),
    )


def _room_along(start: float, step: float, size: float) -> float:
    """How far one can go from `start` in steps of `step` and stay clear of both walls."""
    if abs(step) < 1e-9:
        return math.inf
    end = size - _WALL_M if step > 0 else _WALL_M
    return max(0.0, (end - start) / step)


def _kept(value: float, size: float) -> float:
    return min(max(value, 0.05), size - 0.05)


def _clear(
    place: Point, others: list[Point], size: RoomSize, plan: RoomPlan | None, *, apart_m: float | None = None
) -> Point:
    """The nearest free place around, inside the outline where there is one; `apart_m` along the floor if given."""

    def stands(candidate: Point) -> bool:
        if plan is not None and plan.outline and not inside_outline(plan.outline, candidate.x_m, candidate.y_m):
            return False
        if apart_m is not None:
            return all(math.hypot(candidate.x_m - o.x_m, candidate.y_m - o.y_m) >= apart_m for o in others)
        return all(
            math.dist((candidate.x_m, candidate.y_m, candidate.z_m), (o.x_m, o.y_m, o.z_m)) >= 0.2 for o in others
        )

    if stands(place):
        return place
    steps = [0.1 * k for k in range(1, 120)]
    for radius in steps:
        for turn in range(16):
            angle = 2 * math.pi * turn / 16
            candidate = Point(
                x_m=round(_kept(place.x_m + radius * math.cos(angle), size.width_m), 2),
                y_m=round(_kept(place.y_m + radius * math.sin(angle), size.length_m), 2),
                z_m=place.z_m,
            )
            if stands(candidate):
                return candidate
    return place
