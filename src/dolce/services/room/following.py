"""Rooms that follow each other: what a change of one means for the others."""

from datetime import datetime

from dolce.core.room import RoomPlan, followed, same_room
from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context
from dolce.services.room.sounding_guard import refuse_while_sounding
from dolce.store import UnitOfWork


class RoomFollowing:
    """Whose room, seats and spots a job has."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def may_follow(self, job_id: int) -> list[tuple[int, str]]:
        """Numbers and names of the jobs whose room this one can have; none where others have this one's."""
        with self._context.look() as work:
            if work.jobs.followers(job_id):
                return []
            return [(job.id, job.name) for job in work.jobs.all() if job.follows is None and job.id != job_id]

    def follow(self, job_id: int, first_id: int | None) -> None:
        """Have room, seats and spots of another job from now on, whenever they change there; None for one's own.

        Raises
        ------
        Conflict
            Where that one follows another itself, this one is followed, or sound plays here.
        InvalidValue
            Where a speaker of this job stands outside that room.
        """
        with self._context.change() as work:
            job, now = work.jobs.get(job_id), self._context.now()
            if job.follows == first_id:
                return
            if first_id is None:
                work.jobs.set_follows(job_id, None)
                work.logbook.add(job_id, "Room, seats and spots are this job's own from now on.", at=now)
                return
            first = work.jobs.get(first_id)
            if first.id == job_id or first.follows is not None or work.jobs.followers(job_id):
                raise Conflict(
                    f"{job.name} can't follow the room of {first.name}: one of them follows or is followed.",
                    where="follows",
                    remedy="Let it follow the job that the other one follows.",
                )
            plan = followed(job.plan, first.plan)
            refuse_while_sounding(work, job_id, job.plan, plan)
            if plan != job.plan:
                work.plans.add(job_id, plan, what=f"as in {first.name}")
            work.jobs.set_follows(job_id, first.id)
            work.jobs.touch(job_id, now)
            work.logbook.add(job_id, f"Room, seats and spots follow {first.name} until they are changed here.", at=now)


def after_change(work: UnitOfWork, job_id: int, before: RoomPlan, after: RoomPlan, *, at: datetime) -> None:
    """End following where a job changed its own room; bring those that follow it along.

    One that can't have the new room, or sounds now, stays as it is, and says so in its logbook.
    """
    if same_room(before, after):
        return
    job = work.jobs.get(job_id)
    if job.follows is not None:
        work.jobs.set_follows(job_id, None)
        work.logbook.add(job_id, "Room, seats and spots are this job's own from now on: they were changed here.", at=at)
    for follower in work.jobs.followers(job_id):
        try:
            plan = followed(follower.plan, after)
            refuse_while_sounding(work, follower.id, follower.plan, plan)
        except (Conflict, InvalidValue) as error:
            work.jobs.set_follows(follower.id, None)
            work.logbook.add(
                follower.id,
                f"No longer follows the room of {job.name}, which was changed: {error.where}: {error.problem}",
                at=at,
            )
            continue
        if plan != follower.plan:
            work.plans.add(follower.id, plan, what=f"as in {job.name}")
            work.jobs.touch(follower.id, at)
