"""The Room stop: size, places, spots, and what geometry tells."""

from dataclasses import dataclass

from dolce.core.acoustics import speed_of_sound
from dolce.core.geometry import Placement, Point, RoomSize, cluster, pair_angle_deg, placement_of
from dolce.core.job import Job
from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomView:
    """A job with what follows from its places."""

    job: Job
    placements: dict[str, Placement]
    pair_angle_deg: float
    takes_by_spot: dict[int, int]


class RoomPlanning:
    """Sizes and places of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> RoomView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            counts = work.takes.count_by_spot(job_id)
        speed = speed_of_sound(job.room.temperature_c)
        left, right = job.speaker("L").place, job.speaker("R").place
        return RoomView(job=job, takes_by_spot=counts,
                        placements={s.channel: placement_of(s.place, seat=job.seat.place, room=job.room,
                                                            speed_m_s=speed) for s in job.speakers},
                        pair_angle_deg=pair_angle_deg(left, right, seen_from=job.seat.place))

    def set_size(self, job_id: int, room: RoomSize) -> None:
        """Change the box; everything in it must still fit."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            for name, place in _things(job):
                room.require_inside(place, where=name)
            work.jobs.set_room(job_id, room)
            work.jobs.touch(job_id, self._context.now())

    def move(self, job_id: int, thing: str, place: Point) -> None:
        """Move a speaker ("L", "R"), the seat ("seat") or a spot ("spot-3")."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            job.room.require_inside(place, where=_label(job, thing))
            if thing == "seat":
                work.jobs.place_seat(job_id, job.seat.name, place)
            elif thing.startswith("spot-") and thing[5:].isdigit():
                work.jobs.place_spot(job_id, job.spot(int(thing[5:])).number, place)
            else:
                work.jobs.place_speaker(job_id, job.speaker(thing).channel, place)
            work.jobs.touch(job_id, self._context.now())

    def name_seat(self, job_id: int, name: str) -> None:
        if not name.strip() or len(name) > 40:
            raise InvalidValue("a seat needs a name of up to 40 characters.", where="seat")
        with self._context.change() as work:
            work.jobs.place_seat(job_id, name.strip(), work.jobs.get(job_id).seat.place)

    def make_cluster(self, job_id: int, *, count: int, spacing_m: float) -> None:
        """Replace the spots by a cluster around the main seat; refused once takes hang on them."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            self._refuse_taken(work.takes.count_by_spot(job_id), range(1, len(job.spots) + 1))
            work.jobs.set_spots(job_id, cluster(job.seat.place, count=count, spacing_m=spacing_m, room=job.room))
            work.jobs.touch(job_id, self._context.now())

    def remove_spot(self, job_id: int, number: int) -> None:
        """Remove a spot without takes; those behind it move up."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            job.spot(number)
            if len(job.spots) == 1:
                raise Conflict("the last spot can't be removed.", where="spots", remedy="Move it instead.")
            self._refuse_taken(work.takes.count_by_spot(job_id), range(number, len(job.spots) + 1))
            work.jobs.set_spots(job_id, [s.place for s in job.spots if s.number != number])

    @staticmethod
    def _refuse_taken(counts: dict[int, int], numbers: range) -> None:
        taken = [number for number in numbers if counts.get(number)]
        if taken:
            raise Conflict(f"spot {taken[0]} has takes, which would lose their place.", where="spots",
                           remedy="Move spots instead, or copy the job without its takes and change the copy.")


def _things(job: Job) -> list[tuple[str, Point]]:
    return [*((f"speaker {s.channel}", s.place) for s in job.speakers), (job.seat.name, job.seat.place),
            *((f"spot {s.number}", s.place) for s in job.spots)]


def _label(job: Job, thing: str) -> str:
    if thing == "seat":
        return job.seat.name
    return thing.replace("-", " ") if thing.startswith("spot-") else f"speaker {thing}"
