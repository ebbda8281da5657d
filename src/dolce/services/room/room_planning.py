"""The Room stop: everything that stands, sits or is measured in the room, with undo and redo."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import Any

from dolce.core.geometry import Point, RoomSize
from dolce.core.job import Job, channels_of
from dolce.core.room import (
    Box,
    Dismissal,
    Findings,
    Reflections,
    Reverberation,
    RoomPlan,
    Seat,
    Sights,
    Spot,
    SpotWarning,
    findings_of,
    label_of,
    moved,
    numbered,
    place_of,
    reflections_of,
    sights_of,
    spot_warnings,
    spots_by_pattern,
    with_channel,
    with_layout,
    without_channel,
)
from dolce.core.room.spot_patterns import Placed
from dolce.errors import Conflict, InvalidValue
from dolce.formats.places_csv import read_places, write_places
from dolce.formats.room_json import SCHEMA, read_room, write_room
from dolce.services.context import Context
from dolce.services.room.following import after_change
from dolce.services.room.sounding_guard import refuse_while_sounding
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RoomView:
    """A job's plan with what follows from it.

    Attributes
    ----------
    undo, redo : what these would take back or do again, or None
    version : what tells this state of the plan from others; empty for one that is not kept
    ghosts : where moved things stood before, by key
    reflections_before : of the plan before the move, where there are ghosts
    """

    job: Job
    plan: RoomPlan
    sights: Sights
    reflections: Reflections
    findings: Findings
    warnings: tuple[SpotWarning, ...]
    undo: str | None
    redo: str | None
    ghosts: dict[str, Point]
    reflections_before: Reflections | None
    version: str = ""


class RoomPlanning:
    """The plan of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def version(self, job_id: int) -> str:
        """What tells whether the plan is still the one that somebody saw."""
        with self._context.look() as work:
            return work.plans.version(job_id)

    def view(self, job_id: int, *, ghosts: bool = False) -> RoomView:
        """The plan as it is; with `ghosts`, also where the things of the last move stood before."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            before = work.plans.previous(job_id) if ghosts else None
            steps, version = work.plans.neighbours(job_id), work.plans.version(job_id)
        return _seen(job, job.plan, before=before, steps=steps, version=version)

    def what_if(self, job_id: int, thing: str, place: Point) -> RoomView:
        """The view as it would be with one thing elsewhere; nothing is kept."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        return _seen(job, moved(job.plan, thing, place), before=job.plan)

    def _change(self, job_id: int, what: str, make: Callable[[RoomPlan], RoomPlan], *, seen: str = "") -> None:
        """Keep a changed plan as a new state; refused where takes would lose their channel.

        `seen` is the version of the plan on which things were pointed at by their number.
        """
        with self._context.change() as work:
            work.plans.require(job_id, seen)
            before = work.jobs.get(job_id).plan
            # Takes may hang on spots of a plan that was taken back: their ids are not given away either.
            last = max(before.last_spot_id, work.takes.highest_spot_id(job_id))
            after = make(replace(before, last_spot_id=last))
            if replace(after, last_spot_id=0) == replace(before, last_spot_id=0):
                return
            refuse_while_sounding(work, job_id, before, after)
            _refuse_lost(work, job_id, after)
            work.plans.add(job_id, after, what=what)
            work.jobs.touch(job_id, self._context.now())
            after_change(work, job_id, before, after, at=self._context.now())

    def undo(self, job_id: int, *, seen: str = "") -> None:
        self._step(job_id, lambda work: work.plans.undo(job_id, seen=seen))

    def redo(self, job_id: int, *, seen: str = "") -> None:
        self._step(job_id, lambda work: work.plans.redo(job_id, seen=seen))

    def _step(self, job_id: int, step: Callable[[UnitOfWork], None]) -> None:
        with self._context.change() as work:
            before = work.jobs.get(job_id).plan
            step(work)
            after = work.plans.current(job_id) or before
            refuse_while_sounding(work, job_id, before, after)
            _refuse_lost(work, job_id, after)
            work.jobs.touch(job_id, self._context.now())
            after_change(work, job_id, before, after, at=self._context.now())

    # The room itself

    def set_size(self, job_id: int, room: RoomSize) -> None:
        """Change the box; everything in it must still fit."""
        self._change(job_id, "room size", lambda plan: replace(plan, size=room))

    def set_outline(self, job_id: int, corners: Iterable[tuple[float, float]]) -> None:
        """The floor's true shape; no corners make it a box again."""
        outline = tuple((round(x, 4), round(y, 4)) for x, y in corners)
        self._change(job_id, "outline", lambda plan: replace(plan, outline=outline))

    def start_outline(self, job_id: int) -> None:
        """The box's own four corners, to be moved."""

        def start(plan: RoomPlan) -> RoomPlan:
            w, length = plan.size.width_m, plan.size.length_m
            return replace(plan, outline=((0.0, 0.0), (w, 0.0), (w, length), (0.0, length)))

        self._change(job_id, "outline", start)

    def add_corner(self, job_id: int, after: int, *, seen: str = "") -> None:
        """A new corner in the middle of the wall behind corner `after`."""

        def split(plan: RoomPlan) -> RoomPlan:
            place_of(plan, f"corner-{after}")
            (ax, ay), (bx, by) = plan.outline[after - 1], plan.outline[after % len(plan.outline)]
            middle = (round((ax + bx) / 2, 3), round((ay + by) / 2, 3))
            return replace(plan, outline=(*plan.outline[:after], middle, *plan.outline[after:]))

        self._change(job_id, "corner", split, seen=seen)

    def remove_corner(self, job_id: int, number: int, *, seen: str = "") -> None:
        def without(plan: RoomPlan) -> RoomPlan:
            place_of(plan, f"corner-{number}")
            return replace(plan, outline=tuple(c for k, c in enumerate(plan.outline, 1) if k != number))

        self._change(job_id, "corner", without, seen=seen)

    def set_reverberation(self, job_id: int, known: Reverberation) -> None:
        self._change(job_id, "reverberation", lambda plan: replace(plan, reverberation=known))

    def set_mirror(self, job_id: int, on: bool) -> None:
        """Whether moving one of a pair moves the other."""
        self._change(job_id, "pairs mirrored" if on else "pairs apart", lambda plan: replace(plan, mirror_pairs=on))

    # Speakers

    def set_layout(self, job_id: int, layout: str, *, subs: int) -> None:
        """Another layout or number of subs; what was placed keeps its place."""
        self._change(job_id, f"layout {layout}", lambda plan: with_layout(plan, layout, subs=subs))

    def add_channel(self, job_id: int, code: str, *, name: str = "") -> None:
        self._change(job_id, f"channel {code}", lambda plan: with_channel(plan, code, name=name))

    def remove_channel(self, job_id: int, code: str) -> None:
        self._change(job_id, f"without {code}", lambda plan: without_channel(plan, code))

    def set_speaker(self, job_id: int, channel: str, **values: Any) -> None:
        """Change attributes of a speaker other than its place; a partner is told as well."""

        def change(plan: RoomPlan) -> RoomPlan:
            old = plan.speaker(channel)
            new = replace(old, **values)
            if new.partner is not None and new.partner == channel:
                raise InvalidValue("a speaker can't be its own partner.", where="partner")
            speakers = []
            for s in plan.speakers:
                if s.channel == channel:
                    s = new
                elif s.channel == new.partner:
                    s = replace(s, partner=channel)
                elif s.partner == channel:
                    s = replace(s, partner=None)
                speakers.append(s)
            return replace(plan, speakers=tuple(speakers))

        self._change(job_id, f"{channel}", change)

    def move(self, job_id: int, thing: str, place: Point, *, seen: str = "") -> None:
        """Move a speaker ("L"), seat ("seat-1"), spot ("spot-3"), drawing ("box-1") or corner ("corner-2")."""
        with self._context.look() as work:
            what = f"moving {label_of(work.jobs.get(job_id).plan, thing)}"
        by_number = thing.startswith("corner-")  # others keep their keys, whatever else changes
        self._change(job_id, what, lambda plan: moved(plan, thing, place), seen=seen if by_number else "")

    def place_subs(self, job_id: int, places: Iterable[Point]) -> None:
        """As many subs as places, standing there."""
        there = list(places)

        def put(plan: RoomPlan) -> RoomPlan:
            changed = with_layout(plan, plan.layout, subs=len(there))
            fresh = {s.channel: replace(s, place=p) for s, p in zip(changed.subs, there, strict=True)}
            return replace(changed, speakers=tuple(fresh.get(s.channel, s) for s in changed.speakers))

        self._change(job_id, "places of the subs", put)

    # Seats and spots

    def add_seat(self, job_id: int, name: str, place: Point | None = None) -> None:
        """One seat more: at a place, or beside the last one."""

        def add(plan: RoomPlan) -> RoomPlan:
            at = place or _beside(plan)
            number = max(seat.id for seat in plan.seats) + 1
            return replace(
                plan,
                seats=(*plan.seats, Seat(id=number, name=name.strip() or f"Seat {number}", place=at, is_main=False)),
            )

        self._change(job_id, "seat", add)

    def set_seat(self, job_id: int, seat_id: int, *, name: str, weight: float, main: bool) -> None:
        """Name and weight of a seat, and whether it is the main one."""

        def change(plan: RoomPlan) -> RoomPlan:
            old = plan.seat(seat_id)
            if old.is_main and not main:
                raise InvalidValue(
                    f"{old.name} is the main seat.", where="main seat", remedy="Make another seat the main one instead."
                )
            seats = tuple(
                replace(s, name=name.strip(), weight=weight, is_main=main)
                if s.id == seat_id
                else replace(s, is_main=s.is_main and not main)
                for s in plan.seats
            )
            return replace(plan, seats=seats)

        self._change(job_id, "seat", change)

    def remove_seat(self, job_id: int, seat_id: int) -> None:
        """A seat and its spots go; the main seat stays."""

        def without(plan: RoomPlan) -> RoomPlan:
            seat = plan.seat(seat_id)
            if seat.is_main:
                raise Conflict(
                    f"{seat.name} is the main seat.", where="seats", remedy="Make another seat the main one first."
                )
            kept = [s for s in plan.spots if s.seat_id != seat_id]
            return replace(plan, seats=tuple(s for s in plan.seats if s.id != seat_id), spots=_renumbered(kept))

        self._change(job_id, "seat", without)

    def lay_out_spots(
        self,
        job_id: int,
        pattern: str,
        *,
        seat_id: int,
        count: int,
        spacing_m: float,
        layers: int = 3,
        layer_m: float = 0.15,
    ) -> None:
        """Replace the spots of the pattern's seats by the pattern, and number all anew in walking order."""

        def lay(plan: RoomPlan) -> RoomPlan:
            fresh = spots_by_pattern(
                plan, pattern, seat_id=seat_id, count=count, spacing_m=spacing_m, layers=layers, layer_m=layer_m
            )
            seats = {seat for seat, _ in fresh}
            kept: list[Placed] = [(s.seat_id, s.place) for s in plan.spots if s.seat_id not in seats]
            return replace(plan, spots=numbered(plan, [*kept, *fresh]))

        self._change(job_id, "spots", lay)

    def add_spot(self, job_id: int, seat_id: int, place: Point | None = None) -> None:
        """One spot more, at the end of the walk."""

        def add(plan: RoomPlan) -> RoomPlan:
            number = len(plan.spots) + 1
            at = place or plan.seat(seat_id).place.along(x_m=0.15)
            plan.require_inside(at, where=f"spot {number}")
            return replace(
                plan, spots=(*plan.spots, Spot(id=plan.last_spot_id + 1, number=number, seat_id=seat_id, place=at))
            )

        self._change(job_id, "spot", add)

    def remove_spot(self, job_id: int, spot_id: int) -> None:
        """One spot less; those behind it move up. Its takes are kept, and are there again where undo brings it back."""

        def without(plan: RoomPlan) -> RoomPlan:
            plan.spot(spot_id)
            if len(plan.spots) == 1:
                raise Conflict("the last spot can't be removed.", where="spots", remedy="Move it instead.")
            return replace(plan, spots=_renumbered([s for s in plan.spots if s.id != spot_id]))

        self._change(job_id, "spot", without)

    def set_spot(self, job_id: int, spot_id: int, *, seat_id: int | None, close_to: str = "") -> None:
        """What a spot belongs to: a seat, a speaker that it stands close to, or nothing."""

        def change(plan: RoomPlan) -> RoomPlan:
            if seat_id is not None:
                plan.seat(seat_id)
            if close_to:
                plan.speaker(close_to)
            new = replace(plan.spot(spot_id), seat_id=seat_id, close_to=close_to)
            return replace(plan, spots=tuple(new if s.id == spot_id else s for s in plan.spots))

        self._change(job_id, "spot", change)

    def walk_anew(self, job_id: int) -> None:
        """Number the spots again in walking order."""
        self._change(
            job_id,
            "walking order",
            lambda plan: replace(plan, spots=numbered(plan, [(s.seat_id, s.place) for s in plan.spots])),
        )

    # Drawings

    def add_box(self, job_id: int, box: Box) -> None:
        def add(plan: RoomPlan) -> RoomPlan:
            number = max((b.id for b in plan.boxes), default=0) + 1
            return replace(plan, boxes=(*plan.boxes, replace(box, id=number)))

        self._change(job_id, f"{box.title.lower()}", add)

    def set_box(self, job_id: int, box_id: int, **values: Any) -> None:
        def change(plan: RoomPlan) -> RoomPlan:
            new = replace(plan.box(box_id), **values)
            return replace(plan, boxes=tuple(new if b.id == box_id else b for b in plan.boxes))

        self._change(job_id, "drawing", change)

    def remove_box(self, job_id: int, box_id: int) -> None:
        def without(plan: RoomPlan) -> RoomPlan:
            plan.box(box_id)
            return replace(plan, boxes=tuple(b for b in plan.boxes if b.id != box_id))

        self._change(job_id, "drawing", without)

    # Findings

    def dismiss(self, job_id: int, key: str, *, reason: str) -> None:
        """Set a finding aside until its evidence changes."""
        if not reason.strip() or len(reason) > 200:
            raise InvalidValue(
                "a reason of up to 200 characters is needed.", where="reason", remedy="Say why it may stay as it is."
            )

        def dismissed(plan: RoomPlan) -> RoomPlan:
            finding = next((f for f in findings_of(plan).open if f.key == key), None)
            if finding is None:
                raise Conflict("this finding is gone already.", where="findings", remedy="Look at the list again.")
            rest = tuple(d for d in plan.dismissed if d.key != key)
            return replace(
                plan, dismissed=(*rest, Dismissal(key=key, evidence=finding.evidence, reason=reason.strip()))
            )

        self._change(job_id, "finding set aside", dismissed)

    def take_up(self, job_id: int, key: str) -> None:
        """Bring a dismissed finding back."""
        self._change(
            job_id,
            "finding taken up",
            lambda plan: replace(plan, dismissed=tuple(d for d in plan.dismissed if d.key != key)),
        )

    # In and out

    def room_file(self, job_id: int) -> tuple[bytes, str]:
        """The plan as JSON, and a file name."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        return write_room(job.plan), f"{job.name} room.json"

    def places_file(self, job_id: int) -> tuple[bytes, str]:
        """The coordinates as CSV, and a file name."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        return write_places(job.plan), f"{job.name} places.csv"

    def use_file(self, job_id: int, data: bytes, *, name: str) -> None:
        """Take over a room from JSON, or places from CSV; undo brings the earlier plan back."""
        as_table = name.lower().endswith(".csv")
        self._change(
            job_id,
            f"file {name}",
            lambda plan: (
                read_places(data, plan, name=name) if as_table else _with_own_spots(read_room(data, name=name), plan)
            ),
        )


def room_schema() -> dict[str, Any]:
    """How a room file is built, as a JSON Schema."""
    return SCHEMA


def _refuse_lost(work: UnitOfWork, job_id: int, after: RoomPlan) -> None:
    """Conflict where takes hang on a channel that goes."""
    lost = [
        code
        for code, count in work.takes.count_by_channel(job_id).items()
        if count and not set(channels_of(code)) <= set(after.channels)
    ]
    if lost:
        raise Conflict(
            f"{lost[0]} has takes, which would lose their channel.",
            where="speakers",
            remedy="Keep it, or copy the job without its takes and change the copy.",
        )


def _renumbered(spots: Iterable[Spot]) -> tuple[Spot, ...]:
    return tuple(replace(s, number=n) for n, s in enumerate(spots, 1))


def _with_own_spots(plan: RoomPlan, before: RoomPlan) -> RoomPlan:
    """A plan of a file: its spots are those of the job where they stand at the same place, and new ones elsewhere."""
    present = {(s.seat_id, s.place): s.id for s in before.spots}
    spots, last = [], before.last_spot_id
    for spot in plan.spots:
        known = present.pop((spot.seat_id, spot.place), None)
        last += known is None
        spots.append(replace(spot, id=known or last))
    return replace(plan, spots=tuple(spots), last_spot_id=last)


def _seen(
    job: Job,
    plan: RoomPlan,
    *,
    before: RoomPlan | None,
    steps: tuple[str | None, str | None] = (None, None),
    version: str = "",
) -> RoomView:
    """A plan with what follows from it, beside an earlier one if there is one."""
    reflections = reflections_of(plan)
    comparable = before is not None and before.channels == plan.channels and len(before.seats) == len(plan.seats)
    earlier = reflections_of(before) if before is not None and comparable else None
    return RoomView(
        job=job,
        plan=plan,
        version=version,
        sights=sights_of(plan),
        reflections=reflections,
        findings=findings_of(plan),
        warnings=tuple(spot_warnings(plan)),
        undo=steps[0],
        redo=steps[1],
        ghosts=_moved_from(before, plan) if before else {},
        reflections_before=earlier if earlier and earlier.boundaries == reflections.boundaries else None,
    )


def _beside(plan: RoomPlan) -> Point:
    """A free place for one more seat: right of the last one, or left of it, or behind the main seat."""
    last, size = plan.seats[-1].place, plan.size
    for x, y in ((0.7, 0), (-0.7, 0), (0, 0.9), (0, -0.9), (0.35, 0.45)):
        candidate = last.along(x_m=x, y_m=y)
        inside = 0.2 < candidate.x_m < size.width_m - 0.2 and 0.2 < candidate.y_m < size.length_m - 0.2
        taken = any(
            abs(s.place.x_m - candidate.x_m) < 0.3 and abs(s.place.y_m - candidate.y_m) < 0.3 for s in plan.seats
        )
        if inside and not taken:
            return candidate
    return last.along(z_m=0.0)


def _moved_from(before: RoomPlan, after: RoomPlan) -> dict[str, Point]:
    """Where things stood that are elsewhere now, by key; spots are left out where their seat moved."""
    ghosts = {
        s.channel: s.place
        for s in before.speakers
        if s.channel in after.channels and after.speaker(s.channel).place != s.place
    }
    seats = {s.id: s for s in after.seats}
    ghosts |= {f"seat-{s.id}": s.place for s in before.seats if s.id in seats and seats[s.id].place != s.place}
    spots = {s.id: s for s in after.spots}
    ghosts |= {
        f"spot-{s.id}": s.place
        for s in before.spots
        if s.id in spots and spots[s.id].place != s.place and f"seat-{s.seat_id}" not in ghosts
    }
    boxes = {b.id: b for b in after.boxes}
    ghosts |= {f"box-{b.id}": b.place for b in before.boxes if b.id in boxes and boxes[b.id].place != b.place}
    return ghosts
