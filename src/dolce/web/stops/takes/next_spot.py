"""The next place of the microphone: in words for a tape measure, and as close-up in plan and elevation."""

from collections.abc import Callable
from dataclasses import dataclass

from dolce.core.geometry import Point
from dolce.core.job import Job
from dolce.core.room import Move, Spot, move_of, tape_of
from dolce.words.numbers import length

_WIDTH, _HEIGHT = 300, 132
_LEAST_M = 0.5  # what a close-up shows at least, so that one spot is not drawn as large as a room


@dataclass(frozen=True, slots=True, kw_only=True)
class Dot:
    """A spot in a close-up."""

    number: int
    x: float
    y: float
    now: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class NextSpot:
    """Where a microphone goes.

    Attributes
    ----------
    plan, side : dots of the spots of the same seat, from above and from the left; front is up and left
    """

    number: int
    seat: str
    height: str
    under: str
    walls: str
    move: str
    plan: tuple[Dot, ...]
    side: tuple[Dot, ...]

    @classmethod
    def of(cls, job: Job, spot_id: int) -> "NextSpot":
        spot, units = job.spot(spot_id), job.units
        tape = tape_of(spot.place, job.room)
        together = [s for s in job.spots if s.seat_id == spot.seat_id]
        before = job.spots[job.spots.index(spot) - 1] if job.spots.index(spot) else None
        return cls(
            number=spot.number,
            seat=job.plan.belongs_to(spot),
            height=length(tape.up_m, units),
            under=f"{length(tape.ceiling_m, units)} under the ceiling",
            walls=f"{length(tape.side_m, units)} from the {tape.side} wall, {length(tape.end_m, units)} from the "
            f"{tape.end} wall",
            move=""
            if before is None
            else f"From spot {before.number}: {move_words(move_of(before.place, spot.place), units)}.",
            plan=_dots(together, spot, lambda p: (p.x_m, p.y_m)),
            side=_dots(together, spot, lambda p: (p.y_m, -p.z_m)),
        )


def move_words(move: Move, units: str) -> str:
    """The parts of a move that matter, a centimetre and more, in words."""
    parts = [(move.right_m, "to the right", "to the left"), (move.back_m, "back", "forward"), (move.up_m, "up", "down")]
    steps = [
        f"{length(abs(distance), units)} {more if distance > 0 else less}"
        for distance, more, less in parts
        if abs(distance) >= 0.01
    ]
    return ", ".join(steps) or "the same place"


def _dots(spots: list[Spot], now: Spot, place: Callable[[Point], tuple[float, float]]) -> tuple[Dot, ...]:
    """Spots in a picture of half the width, the present one last so that it lies on top."""
    across, down = zip(*(place(s.place) for s in spots), strict=True)
    span = max(_LEAST_M, max(across) - min(across), max(down) - min(down))
    scale = (_HEIGHT - 40) / span
    middle = ((max(across) + min(across)) / 2, (max(down) + min(down)) / 2)

    def dot(spot: Spot) -> Dot:
        x, y = place(spot.place)
        return Dot(
            number=spot.number,
            now=spot.id == now.id,
            x=round(_WIDTH / 4 + (x - middle[0]) * scale, 1),
            y=round(_HEIGHT / 2 + (y - middle[1]) * scale, 1),
        )

    return tuple(dot(s) for s in [*(s for s in spots if s.id != now.id), now])
