"""Rooms of the sample jobs. All of them are made up."""

from dataclasses import replace

from dolce.core.geometry import Point, RoomSize
from dolce.core.room import (
    Box,
    Reverberation,
    RoomPlan,
    Seat,
    Speaker,
    new_plan,
    numbered,
    partner_of,
    spots_by_pattern,
    with_layout,
)


def _at(x_m: float, y_m: float, z_m: float) -> Point:
    return Point(x_m=x_m, y_m=y_m, z_m=z_m)


def _with_spots(plan: RoomPlan, *patterns: tuple[str, int, int, float]) -> RoomPlan:
    """Spots by (pattern, seat, count, spacing in m), numbered as one walk."""
    placed = [
        spot
        for pattern, seat_id, count, spacing_m in patterns
        for spot in spots_by_pattern(plan, pattern, seat_id=seat_id, count=count, spacing_m=spacing_m)
    ]
    return replace(plan, spots=numbered(plan, placed))


def _placed(plan: RoomPlan, places: dict[str, Point]) -> RoomPlan:
    return replace(plan, speakers=tuple(replace(s, place=places.get(s.channel, s.place)) for s in plan.speakers))


def attic() -> RoomPlan:
    """Ferry Lane attic: a composing room with one pair of monitors, a desk, and a sofa at the back.

    The left monitor stands farther out, before a chimney breast: the front wall cancels its sound around 130 Hz, and
    lifts that of the right one below 300 Hz.
    """
    # Gables of brick, slopes of panels that give way: what runs lengthways rings, the rest hardly does.
    size = RoomSize(length_m=4.6, width_m=3.7, height_m=2.4, temperature_c=21.0)
    seat = _at(1.89, 2.25, 1.18)
    half = 0.72
    pair = [
        Speaker(
            channel=code,
            output=output,
            partner=partner_of(code),
            low_limit_hz=44.0,
            place=_at(round(seat.x_m + side * half, 2), y, 1.0),
        )
        for code, output, side, y in (("L", 1, -1, 0.81), ("R", 2, 1, 0.55))
    ]
    plan = RoomPlan(
        size=size,
        layout="2.0",
        speakers=tuple(pair),
        seats=(Seat(id=1, name="Mixer", place=seat),),
        boxes=(
            Box(id=1, kind="desk", place=_at(1.89, 1.50, 0.70), width_m=1.6, depth_m=0.7, height_m=0.04),
            Box(id=2, kind="sofa", place=_at(1.85, 4.05, 0.0), width_m=1.9, depth_m=0.9, height_m=0.75),
            Box(
                id=4,
                kind="other",
                name="Chimney breast",
                place=_at(0.55, 0.20, 0.0),
                width_m=0.9,
                depth_m=0.4,
                height_m=2.4,
            ),
            Box(id=3, kind="door", place=_at(3.66, 3.3, 0.0), width_m=0.08, depth_m=0.85, height_m=2.0),
        ),
        reverberation=Reverberation(
            source="surfaces",
            surfaces={
                "floor": "carpet on felt",
                "ceiling": "fissured ceiling tile",
                "front wall": "rendered brick",
                "back wall": "rendered brick",
                "left wall": "thin plywood panelling",
                "right wall": "thin plywood panelling",
            },
        ),
    )
    return _with_spots(plan, ("cluster", 1, 9, 0.22))


def net_loft() -> RoomPlan:
    """Saltmarsh net loft: a radio-drama room with 5.1 and two subs, a sloping corner, three seats."""
    size = RoomSize(length_m=7.2, width_m=5.4, height_m=2.9, temperature_c=19.0)
    plan = replace(new_plan(size, layout="5.1", subs=2, seat_name="Mixer"), spots=(), last_spot_id=0)
    plan = _placed(
        replace(
            plan,
            seats=(
                Seat(id=1, name="Mixer", place=_at(2.70, 2.75, 1.22), weight=1.0),
                Seat(id=2, name="Director", place=_at(1.75, 4.10, 1.20), is_main=False, weight=0.8),
                Seat(id=3, name="Script bench", place=_at(3.75, 4.35, 1.15), is_main=False, weight=0.5),
            ),
        ),
        {
            "L": _at(1.72, 1.02, 1.24),
            "R": _at(3.74, 1.06, 1.24),
            "C": _at(2.70, 0.80, 1.10),
            "Ls": _at(0.85, 3.55, 1.35),
            "Rs": _at(4.62, 3.20, 1.35),
            "Sub1": _at(0.55, 0.50, 0.25),
            "Sub2": _at(4.80, 0.55, 0.25),
        },
    )
    plan = replace(
        plan,
        outline=((0.0, 0.0), (5.4, 0.0), (5.4, 6.0), (4.3, 7.2), (0.0, 7.2)),
        boxes=(
            Box(id=1, kind="desk", place=_at(2.70, 1.85, 0.72), width_m=2.2, depth_m=0.8, height_m=0.04),
            Box(id=2, kind="window", place=_at(0.04, 2.4, 0.9), width_m=0.08, depth_m=1.4, height_m=1.2),
            Box(id=3, kind="cabinet", place=_at(0.5, 6.7, 0.0), width_m=0.9, depth_m=0.8, height_m=1.9),
        ),
        reverberation=Reverberation(
            source="surfaces",
            surfaces={
                "floor": "carpet on felt",
                "ceiling": "wood on battens",
                "front wall": "mineral wool 50 mm",
                "back wall": "draped cotton curtain",
                "left wall": "plasterboard on studs",
                "right wall": "plasterboard on studs",
            },
        ),
    )
    return _with_spots(plan, ("cluster", 1, 7, 0.22), ("flat", 2, 4, 0.22), ("flat", 3, 4, 0.22))


def barn() -> RoomPlan:
    """Lantern barn: a puppet company's screening room with 7.1.4 and three subs, two rows of three seats."""
    size = RoomSize(length_m=8.6, width_m=6.2, height_m=3.6, temperature_c=18.0)
    seats = tuple(
        Seat(id=k + 1, name=name, place=_at(x, y, z), is_main=k == 0, weight=weight)
        for k, (name, x, y, z, weight) in enumerate(
            (
                ("Director", 3.10, 4.10, 1.10, 1.0),
                ("Puppeteer", 2.25, 4.15, 1.10, 0.8),
                ("Composer", 3.95, 4.15, 1.10, 0.8),
                ("Bench left", 2.10, 5.70, 1.45, 0.5),
                ("Bench middle", 3.10, 5.70, 1.45, 0.5),
                ("Bench right", 4.10, 5.70, 1.45, 0.5),
            )
        )
    )
    plan = replace(new_plan(size, layout="7.1.4", subs=3, seat_name="Director"), seats=seats, spots=(), last_spot_id=0)
    plan = with_layout(replace(plan, speakers=plan.speakers[:1], aside=()), "7.1.4", subs=3)
    plan = _placed(
        plan,
        {
            "L": _at(1.15, 0.75, 1.25),
            "R": _at(5.05, 0.75, 1.25),
            "C": _at(3.10, 0.55, 1.2),
            "Lrs": _at(0.95, 7.35, 1.5),
            "Rrs": _at(5.0, 7.6, 1.5),
            "Sub1": _at(0.45, 0.45, 0.3),
            "Sub2": _at(5.75, 0.45, 0.3),
            "Sub3": _at(3.1, 8.15, 0.3),
        },
    )
    plan = replace(
        plan,
        boxes=(
            Box(id=1, kind="screen", place=_at(3.10, 0.12, 1.5), width_m=3.4, depth_m=0.05, height_m=1.9),
            Box(id=2, kind="sofa", place=_at(3.10, 4.45, 0.0), width_m=2.6, depth_m=0.9, height_m=0.8),
            Box(
                id=3,
                kind="other",
                name="Bench riser",
                place=_at(3.10, 5.9, 0.0),
                width_m=3.2,
                depth_m=1.2,
                height_m=0.35,
            ),
            Box(id=4, kind="door", place=_at(6.16, 6.9, 0.0), width_m=0.08, depth_m=1.2, height_m=2.1),
        ),
        reverberation=Reverberation(typed_s=0.45),
        mirror_pairs=True,
    )
    return _with_spots(plan, ("layered", 1, 9, 0.2), *(("flat", seat, 3, 0.2) for seat in range(2, 7)))
