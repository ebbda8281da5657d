"""What moving a loudspeaker would do to the curve that is in front on Read."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from dolce.core import checked
from dolce.core.acoustics import WALLS
from dolce.core.cache import Cache
from dolce.core.geometry import Point
from dolce.core.job import Job, bass_alone
from dolce.core.reading import CurveFinding, DipMoved, MovedCurve, moved_curve
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.room import BoxField, box_field
from dolce.errors import InvalidValue
from dolce.services.context import Context
from dolce.services.read.chosen import Chosen
from dolce.services.read.curve_findings import EXPECTED_HZ, speaker_place
from dolce.services.read.options import ReadOptions
from dolce.services.read.reading import Reading

STEP_M = 0.25
_NEAREST_M = 0.15  # to any wall
_FURTHEST_M = 3.0
_KEPT = 64


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """By how much a loudspeaker is moved, m: to the right, to the back, up."""

    x_m: float = checked.limited(-_FURTHEST_M, _FURTHEST_M, where="to the right", unit="m", default=0.0)
    y_m: float = checked.limited(-_FURTHEST_M, _FURTHEST_M, where="to the back", unit="m", default=0.0)
    z_m: float = checked.limited(-_FURTHEST_M, _FURTHEST_M, where="up", unit="m", default=0.0)

    def __post_init__(self) -> None:
        checked.ranges(self)

    @property
    def words(self) -> str:
        """Nearer to which walls, by how many centimetres."""
        parts = [
            f"{100 * abs(by):.0f} cm nearer to the {WALLS[2 * axis + (by > 0)]}"
            for axis, by in enumerate((self.x_m, self.y_m, self.z_m))
            if by
        ]
        return " and ".join(parts) or "not moved"


@dataclass(frozen=True, slots=True, kw_only=True)
class MoveAdvice:
    """A dip that surfaces make, and the best of four moves by `STEP_M`; None where all make it deeper."""

    finding: CurveFinding
    move: Move | None
    dip: DipMoved | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MovingView:
    """A move of the channel in front.

    Attributes
    ----------
    place : Point
        Where it would stand, in the room.
    advices : for each dip that is laid to surfaces
    """

    channel: str
    chosen: Chosen
    move: Move
    place: Point
    moved: MovedCurve
    advices: tuple[MoveAdvice, ...]


class Moving:
    """Moves of one job's loudspeakers."""

    def __init__(self, context: Context, reading: Reading) -> None:
        self._context = context
        self._reading = reading
        self._fields: Cache[tuple, BoxField] = Cache(_KEPT)

    def view(self, job_id: int, options: ReadOptions, move: Move | None) -> MovingView:
        """A move, or without one the best of four for the deepest dip.

        Raises
        ------
        InvalidValue
            If nothing was taken, several play together, or the place lies outside the room.
        """
        view = self._reading.view(job_id, replace(options, view="level", window="whole", compared=()))
        channel, job = view.front, view.job
        curves = view.chosen.curves.get(channel)
        if curves is None or channel not in job.channels:
            raise InvalidValue(
                f"{channel} was not taken alone in that round.",
                where="moving",
                remedy="Put one loudspeaker that was taken in front.",
            )
        takes = [take for take in curves.takes if take.spot_place or any(s.id == take.spot_id for s in job.spots)]
        spots = tuple(take.spot_place or job.spot(take.spot_id).place for take in takes)
        stands = speaker_place(job, channel, takes[0])
        levels = smoothed_level_db(np.array([take.level_db for take in takes]), per_octave=12)
        here = self._field(job, stands, spots)

        def after(step: Move) -> MovedCurve:
            return moved_curve(ANALYSIS_GRID_HZ, levels, here, self._field(job, _moved(job, stands, step), spots))

        steps = [step for step in _steps() if _inside(job, _shifted(stands, step))]
        found = [(step, after(step)) for step in steps]
        dips = [f for f in view.findings if f.size_db < 0 and f.cause is not None and f.cause.kind == "boundary"]
        advices = tuple(_advice(finding, found) for finding in sorted(dips, key=lambda f: f.frequency_hz))
        if move is None:
            deepest = min(advices, key=lambda a: a.finding.size_db, default=None)
            move = (deepest.move if deepest else None) or (steps[0] if steps else Move())
        place = _moved(job, stands, move)
        return MovingView(
            channel=channel, chosen=view.chosen, move=move, place=place, moved=after(move), advices=advices
        )

    def _field(self, job: Job, source: Point, spots: tuple[Point, ...]) -> BoxField:
        key = (source, spots, job.plan.outline, job.plan.size, repr(job.plan.reverberation))
        return self._fields.get_or(key, lambda: box_field(job.plan, [source], spots, at_hz=EXPECTED_HZ))


def can_be_moved(channel: str) -> bool:
    """Whether moving it is told: subs are placed on Room, for all seats at once."""
    return not bass_alone(channel)


def _steps() -> list[Move]:
    return [Move(x_m=x, y_m=y) for x, y in ((-STEP_M, 0), (STEP_M, 0), (0, -STEP_M), (0, STEP_M))]


def _advice(finding: CurveFinding, found: Sequence[tuple[Move, MovedCurve]]) -> MoveAdvice:
    dips = [(step, curve.dip(finding.frequency_hz)) for step, curve in found]
    best = max(dips, key=lambda pair: pair[1].shallower_db, default=None)
    if best is None or best[1].shallower_db <= 0:
        return MoveAdvice(finding=finding, move=None, dip=None)
    return MoveAdvice(finding=finding, move=best[0], dip=best[1])


def _shifted(place: Point, move: Move) -> Point:
    return Point(
        x_m=round(place.x_m + move.x_m, 4), y_m=round(place.y_m + move.y_m, 4), z_m=round(place.z_m + move.z_m, 4)
    )


def _inside(job: Job, place: Point) -> bool:
    size = job.plan.size
    sizes = zip((place.x_m, place.y_m, place.z_m), (size.width_m, size.length_m, size.height_m), strict=True)
    return all(_NEAREST_M <= at <= length - _NEAREST_M for at, length in sizes)


def _moved(job: Job, place: Point, move: Move) -> Point:
    there = _shifted(place, move)
    if move != Move() and not _inside(job, there):
        raise InvalidValue(
            f"{move.words} lies outside the room, or nearer than {100 * _NEAREST_M:.0f} cm to a wall.",
            where="moving",
            remedy="Move it less.",
        )
    return there
