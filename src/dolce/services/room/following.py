"""Rooms that follow each other: what a change of one means for the others."""

from datetime import datetime

from dolce.core.room import RoomPlan, followed, same_room
from dolce.errors import Conflict, InvalidValue
from dolce.services.room.sounding_guard import refuse_while_sounding
from dolce.store import UnitOfWork


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
            work.logbook.add(follower.id, f"No longer follows the room of {job.name}, which was changed: "
                                          f"{error.where}: {error.problem}", at=at)
            continue
        if plan != follower.plan:
            work.plans.add(follower.id, plan, what=f"as in {job.name}")
            work.jobs.touch(follower.id, at)
