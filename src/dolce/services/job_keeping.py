"""Jobs: list, create, copy, delete and bring back."""

from dataclasses import dataclass
from datetime import timedelta

from dolce.core.geometry import RoomSize
from dolce.core.job import Job, LogEntry, Rig
from dolce.core.room import RoomPlan, new_plan
from dolce.errors import InvalidForm
from dolce.services.context import Context

KEEP_DELETED = timedelta(days=7)
_NAME_LENGTH = 80


@dataclass(frozen=True, slots=True, kw_only=True)
class JobWish:
    """What is typed about a job."""

    name: str
    place: str = ""
    notes: str = ""
    units: str = "metres"


class JobKeeping:
    """The list of jobs."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def all(self) -> list[Job]:
        with self._context.look() as work:
            return work.jobs.all()

    def get(self, job_id: int) -> Job:
        with self._context.look() as work:
            return work.jobs.get(job_id)

    def deleted(self) -> list[tuple[int, str]]:
        """Jobs that can be brought back."""
        with self._context.look() as work:
            return [(job_id, name) for job_id, name, _ in work.jobs.deleted()]

    def create(self, wish: JobWish, *, plan: RoomPlan | None = None) -> Job:
        """A new job with a usual room, a pair at 60 degrees and nine spots, all to be moved."""
        _check(wish)
        plan = plan or new_plan(RoomSize(length_m=4.6, width_m=3.6, height_m=2.5))
        now = self._context.now()
        with self._context.change() as work:
            job = work.jobs.add(name=wish.name.strip(), place=wish.place.strip(), notes=wish.notes.strip(),
                                units=wish.units, plan=plan, rig=Rig(), seed=1, at=now)
            work.logbook.add(job.id, "Job created.", at=now)
        return job

    def edit(self, job_id: int, wish: JobWish) -> None:
        _check(wish)
        with self._context.change() as work:
            work.jobs.rename(job_id, name=wish.name.strip(), place=wish.place.strip(), notes=wish.notes.strip(),
                             units=wish.units)
            work.jobs.touch(job_id, self._context.now())

    def copy(self, job_id: int, *, with_takes: bool = True, name: str | None = None) -> Job:
        """A second job with all that the first one holds; without takes it starts at its first round."""
        now = self._context.now()
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            new = work.jobs.add(name=name or f"{job.name}, copy", place=job.place, notes=job.notes, units=job.units,
                                plan=job.plan, rig=job.rig, seed=job.seed, at=now)
            if with_takes:
                work.takes.remove_rounds(new.id)
                renumbered = work.takes.copy_all(job_id, new.id)
                work.jobs.set_round(new.id, renumbered[job.round_id])
                work.jobs.set_processor(new.id, job.processor)
                work.jobs.set_align_wish(new.id, work.jobs.align_wish(job_id))
                shape = work.shapes.current(job_id)
                if shape is not None:
                    work.shapes.add(new.id, shape, what="copied")
            work.logbook.add(new.id, f"Copied from {job.name}.", at=now)
        return new

    def delete(self, job_id: int) -> str:
        """Set a job aside for a week; returns its name. What was set aside longer ago goes for good."""
        now = self._context.now()
        with self._context.change() as work:
            name = work.jobs.get(job_id).name
            work.jobs.delete(job_id, now)
            work.jobs.purge(deleted_before=now - KEEP_DELETED)
        return name

    def restore(self, job_id: int) -> None:
        with self._context.change() as work:
            work.jobs.restore(job_id)

    def logbook(self, job_id: int) -> list[LogEntry]:
        with self._context.look() as work:
            return work.logbook.all(job_id)


def _check(wish: JobWish) -> None:
    faults = {}
    if not wish.name.strip():
        faults["name"] = "A job needs a name, such as the room's."
    elif len(wish.name) > _NAME_LENGTH:
        faults["name"] = f"{len(wish.name)} characters are too many. Use up to {_NAME_LENGTH}."
    if wish.units not in ("metres", "feet"):
        faults["units"] = "Choose metres or feet."
    if faults:
        raise InvalidForm(faults)
