"""The plan from above and from the side, in scale, as numbers for an SVG."""

import itertools
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources
from typing import Any

import numpy as np

from dolce.core.acoustics import Modes
from dolce.core.geometry import Point
from dolce.core.room import Box, RoomPlan, axis_of, reference_of, rows_of, sights_of
from dolce.words.numbers import length

PLAN_WIDTH, PLAN_HEIGHT, MARGIN = 430.0, 552.0, 22.0
SIDE_WIDTH, SIDE_HEIGHT = 300.0, 150.0
_CELLS = 60  # of the mode picture along the longer side
_SHADES = (0.1, 0.3, 0.5, 0.7, 0.9)


@dataclass(frozen=True, slots=True, kw_only=True)
class Thing:
    """Something drawn: key, label, kind, place in the room and in the drawing."""

    key: str
    label: str
    title: str
    kind: str
    place: Point
    x: float
    y: float
    aim: tuple[float, float] | None = None
    overhead: bool = False
    label_above: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Rectangle:
    """A drawing such as a desk, or a cell of the mode picture (kind is then its shade)."""

    key: str
    label: str
    kind: str
    x: float
    y: float
    width: float
    height: float
    place: Point | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Ghost:
    """Where a moved thing stood before, and where it is now."""

    kind: str
    x: float
    y: float
    to_x: float
    to_y: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Sight:
    """A line from a speaker to the seat, with its text."""

    x1: float
    y1: float
    x2: float
    y2: float
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    """A numbered place where a sub could stand, and whether it is among the best or left out."""

    text: str
    kind: str
    x: float
    y: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Drawing:
    """One view of the room in scale.

    Attributes
    ----------
    axes : "xy" or "yz"
        What runs to the right and down (up, for z) in it.
    scale : units of the drawing per metre
    left, top, width, height : of the room's box in the drawing
    walls : points of the outline, as an SVG path
    spot_radius : so that neighbouring spots stay apart
    """

    axes: str
    scale: float
    left: float
    top: float
    width: float
    height: float
    walls: str
    things: tuple[Thing, ...]
    boxes: tuple[Rectangle, ...]
    shades: tuple[Rectangle, ...]
    ghosts: tuple[Ghost, ...]
    sights: tuple[Sight, ...]
    marks: tuple[Mark, ...]
    metre_marks: tuple[tuple[float, float, str], ...]
    corners: tuple[Thing, ...]
    spot_radius: float
    full_width: float
    full_height: float


@dataclass(frozen=True, slots=True)
class _Frame:
    """From metres to the drawing."""

    axes: str
    scale: float
    left: float
    top: float
    floor: float  # height of the room, where z runs upward

    def at(self, p: Point) -> tuple[float, float]:
        if self.axes == "xy":
            return round(self.left + p.x_m * self.scale, 2), round(self.top + p.y_m * self.scale, 2)
        return round(self.left + p.y_m * self.scale, 2), round(self.top + (self.floor - p.z_m) * self.scale, 2)


def from_above(
    plan: RoomPlan,
    *,
    units: str,
    ghosts: Mapping[str, Point] | None = None,
    pick: str = "",
    shades: tuple[Rectangle, ...] = (),
    marks: Sequence[tuple[str, str, Point]] = (),
    width: float = PLAN_WIDTH,
    height: float = PLAN_HEIGHT,
) -> Drawing:
    """The plan, front wall at the top; `marks` are text, kind and place of numbered places."""
    size = plan.size
    scale = min((width - 2 * MARGIN) / size.width_m, (height - 2 * MARGIN) / size.length_m)
    frame = _Frame("xy", scale, (width - size.width_m * scale) / 2, MARGIN, 0.0)
    corners = plan.outline or ((0, 0), (size.width_m, 0), (size.width_m, size.length_m), (0, size.length_m))
    path = "L".join("{:.1f} {:.1f}".format(*frame.at(Point(x_m=x, y_m=y, z_m=0))) for x, y in corners)
    handles = tuple(
        _thing(frame, f"corner-{k}", str(k), f"Corner {k}", "corner", Point(x_m=x, y_m=y, z_m=0))
        for k, (x, y) in enumerate(plan.outline, 1)
    )
    step = 1 if size.length_m <= 12 else 2
    metres = tuple(
        (frame.left - 4, frame.top + m * scale, length(m, units, digits=0) if units == "metres" else "")
        for m in range(0, int(size.length_m) + 1, step)
    )
    return Drawing(
        axes="xy",
        scale=scale,
        left=frame.left,
        top=frame.top,
        width=size.width_m * scale,
        height=size.length_m * scale,
        walls=f"M{path}Z",
        things=_things(plan, frame),
        corners=handles,
        boxes=tuple(_box(frame, b, plan) for b in plan.boxes),
        shades=shades,
        ghosts=_ghosts(plan, frame, ghosts),
        sights=_sights(plan, frame, pick, units),
        marks=tuple(Mark(text=text, kind=kind, x=frame.at(p)[0], y=frame.at(p)[1]) for text, kind, p in marks),
        metre_marks=metres,
        spot_radius=_spot_radius(plan, scale),
        full_width=width,
        full_height=size.length_m * scale + 2 * MARGIN,
    )


def from_the_side(plan: RoomPlan, *, ghosts: Mapping[str, Point] | None = None) -> Drawing:
    """The elevation seen from the right-hand wall: front wall on the left, floor below."""
    size = plan.size
    scale = min((SIDE_WIDTH - 20) / size.length_m, (SIDE_HEIGHT - 16) / size.height_m)
    frame = _Frame("yz", scale, (SIDE_WIDTH - size.length_m * scale) / 2, 8.0, size.height_m)
    left, top, right, floor = frame.left, 8.0, frame.left + size.length_m * scale, 8.0 + size.height_m * scale
    return Drawing(
        axes="yz",
        scale=scale,
        left=left,
        top=top,
        width=right - left,
        height=floor - top,
        walls=f"M{left:.1f} {top}H{right:.1f}V{floor:.1f}H{left:.1f}Z",
        things=_things(plan, frame),
        corners=(),
        boxes=tuple(_box(frame, b, plan) for b in plan.boxes),
        shades=(),
        ghosts=_ghosts(plan, frame, ghosts),
        sights=(),
        marks=(),
        metre_marks=(),
        spot_radius=3.0,
        full_width=SIDE_WIDTH,
        full_height=floor + 8,
    )


def mode_shades(
    plan: RoomPlan,
    modes: Modes,
    number: int,
    *,
    scale_to_box: float,
    height_m: float,
    width: float = PLAN_WIDTH,
    height: float = PLAN_HEIGHT,
) -> tuple[Rectangle, ...]:
    """Where a mode is loud at a height: bands of equal shade, runs of cells in rows joined."""
    size = plan.size
    scale = min((width - 2 * MARGIN) / size.width_m, (height - 2 * MARGIN) / size.length_m)
    left, cell = (width - size.width_m * scale) / 2, max(size.width_m, size.length_m) / _CELLS
    across, along = max(2, round(size.width_m / cell)), max(2, round(size.length_m / cell))
    x = (np.arange(across) + 0.5) * size.width_m / across
    y = (np.arange(along) + 0.5) * size.length_m / along
    places = np.stack(
        [*(g.ravel() * scale_to_box for g in np.meshgrid(x, y)), np.full(across * along, height_m)], axis=1
    )
    pressure = np.abs(modes.single(number).pressure_at(places)[:, 0]).reshape(along, across)
    shade = np.digitize(pressure, _SHADES)
    wide, high = size.width_m / across * scale, size.length_m / along * scale
    runs = []
    for row in range(along):
        edges = [0, *(np.flatnonzero(np.diff(shade[row])) + 1), across]
        runs += [
            Rectangle(
                key="",
                label="",
                kind=str(shade[row, a]),
                x=round(left + a * wide, 1),
                y=round(MARGIN + row * high, 1),
                width=round((b - a) * wide, 1),
                height=round(high, 1),
            )
            for a, b in itertools.pairwise(edges)
            if shade[row, a]
        ]
    return tuple(runs)


@lru_cache(maxsize=1)
def standalone_style() -> str:
    """The style of the plan with its colours written out, for a drawing that stands alone."""
    css = resources.files("dolce.web").joinpath("static", "css")
    tokens = css.joinpath("tokens.css").read_text("utf-8").split(":root")[1]
    values = dict(re.findall(r"(--dolce-[a-z0-9-]+): ([^;]+);", tokens))
    rules = [
        line
        for line in css.joinpath("room.css").read_text("utf-8").splitlines()
        if line.startswith((".plan", ".walls", ".sight", ".thing", ":is(", ".box", ".shades"))
    ]
    rules += [line for line in css.joinpath("dolce.css").read_text("utf-8").splitlines() if line.startswith(".ch-")]
    return re.sub(r"var\((--dolce-[a-z0-9-]+)(?:, [^)]*)?\)", lambda m: values.get(m[1], "black"), " ".join(rules))


def _thing(frame: _Frame, key: str, label: str, title: str, kind: str, place: Point, **more: Any) -> Thing:
    x, y = frame.at(place)
    return Thing(key=key, label=label, title=title, kind=kind, place=place, x=x, y=y, **more)


def _things(plan: RoomPlan, frame: _Frame) -> tuple[Thing, ...]:
    """Seats, then spots, then subs, then speakers on top of them."""
    above = _labels_above(plan, frame.scale)
    things = [
        _thing(
            frame,
            f"seat-{s.id}",
            s.name,
            s.name,
            "main seat" if s.is_main else "seat",
            s.place,
            label_above=s.id in above,
        )
        for s in plan.seats
    ]
    things += [
        _thing(frame, f"spot-{s.id}", str(s.number), f"Spot {s.number}", "spot", s.place) for s in reversed(plan.spots)
    ]
    for s in (*plan.subs, *plan.main_channels):
        reference = None if s.is_sub else reference_of(plan.layout, s.channel)
        aim = axis_of(s, plan) if frame.axes == "xy" and not s.is_sub else None
        things.append(
            _thing(
                frame,
                s.channel,
                s.channel,
                s.title,
                "sub" if s.is_sub else "speaker",
                s.place,
                aim=aim,
                overhead=bool(reference and reference.overhead),
            )
        )
    return tuple(things)


def _labels_above(plan: RoomPlan, scale: float) -> set[int]:
    """Seats whose names would run into that of the neighbour on their left: theirs stand above."""
    above: set[int] = set()
    for row in rows_of(plan.seats):
        for left, right in itertools.pairwise(row):
            room = (right.place.x_m - left.place.x_m) * scale
            if left.id not in above and room < 3.4 * (len(left.name) + len(right.name)):
                above.add(right.id)
    return above


def _box(frame: _Frame, box: Box, plan: RoomPlan) -> Rectangle:
    x, y = frame.at(box.place)
    if frame.axes == "xy":
        wide, high = box.width_m * frame.scale, box.depth_m * frame.scale
        corner = (x - wide / 2, y - high / 2)
    else:
        wide, high = box.depth_m * frame.scale, box.height_m * frame.scale
        corner = (x - wide / 2, y - high)
    return Rectangle(
        key=f"box-{box.id}",
        label=box.title,
        kind=box.kind,
        x=round(corner[0], 1),
        y=round(corner[1], 1),
        width=round(max(wide, 3), 1),
        height=round(max(high, 2), 1),
        place=box.place,
    )


def _ghosts(plan: RoomPlan, frame: _Frame, ghosts: Mapping[str, Point] | None) -> tuple[Ghost, ...]:
    drawn = []
    places = {t.key: t for t in _things(plan, frame)} if ghosts else {}
    for key, place in (ghosts or {}).items():
        if key in places:
            x, y = frame.at(place)
            drawn.append(Ghost(kind=places[key].kind, x=x, y=y, to_x=places[key].x, to_y=places[key].y))
    return tuple(drawn)


def _sights(plan: RoomPlan, frame: _Frame, pick: str, units: str) -> tuple[Sight, ...]:
    """Lines to the main seat: of all speakers where there are few, else of the picked one and its partner."""
    sights = sights_of(plan)
    main = plan.seats.index(plan.main_seat)
    seat_x, seat_y = frame.at(plan.main_seat.place)
    drawn = []
    for k, speaker in enumerate(plan.speakers):
        if not (len(plan.speakers) <= 3 or speaker.channel == pick or speaker.partner == pick):
            continue
        x, y = frame.at(speaker.place)
        text = f"{length(float(sights.distance_m[k, main]), units)}, {abs(sights.azimuth_deg[k, main]):.1f}°"
        drawn.append(Sight(x1=x, y1=y, x2=seat_x, y2=seat_y, text=text))
    return tuple(drawn)


def _spot_radius(plan: RoomPlan, scale: float) -> float:
    places = np.array([[s.place.x_m, s.place.y_m] for s in plan.spots])
    if len(places) < 2:
        return 8.5
    apart = np.hypot(*(places[:, None] - places[None]).transpose(2, 0, 1)) + np.eye(len(places)) * 99
    return float(np.clip(np.median(apart.min(axis=1)) * scale * 0.48, 6.0, 8.5))
