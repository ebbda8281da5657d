"""Rooms that several tests take."""

from collections.abc import Iterator
from pathlib import Path

from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.services.jobs.job_keeping import JobWish
from dolce.services.wiring import Services, open_services


def two_seats_taken(services: Services, *, layout: str, subs: int) -> int:
    """A job with two seats of two spots each, every channel taken and aligned; its number."""
    plan = new_plan(RoomSize(length_m=5.4, width_m=4.2, height_m=2.6), layout=layout, subs=subs, spots=2)
    job = services.jobs.create(JobWish(name="Two seats"), plan=plan)
    services.room.add_seat(job.id, "Bench")
    for _ in range(2):
        services.room.add_spot(job.id, services.jobs.get(job.id).plan.seats[1].id)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    services.aligning.use_proposal(job.id)
    return job.id


def shaped_pair(folder: Path) -> Iterator[tuple[Services, int]]:
    """Services on a folder with a pair at two seats, filters found, and the job's number; closed in the end."""
    services = open_services(folder)
    job_id = two_seats_taken(services, layout="2.0", subs=0)
    services.shaping.find(job_id)
    yield services, job_id
    services.close()
