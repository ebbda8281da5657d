"""Rooms that several tests take."""

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

from filelock import FileLock

from dolce.core.bass import SearchSteps
from dolce.core.correction import Effort
from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import Services, open_services

# A short look for bands: for what holds however long one looks.
BRIEF = Effort(
    islands=1, starts=2, kept=4, children=4, generations=2, patience=1, finalists=2, exchanges=0, better=0.98
)
BRIEF_BASS = SearchSteps(whole=(40, 120), fold=(15, 25))


class Prepared:
    """Data folders by name: built once under `root`, which all workers share, and copied for each that asks."""

    def __init__(self, root: Path, fresh: Callable[[str], Path]) -> None:
        self._root, self._fresh = root, fresh

    def __call__(self, name: str, build: Callable[[Services], object]) -> Path:
        """A copy of the folder; built by the first that asks."""
        made = self._root / f"prepared {name}"
        with FileLock(self._root / f"prepared {name}.lock"):
            if not (made / "whole").exists():
                shutil.rmtree(made, ignore_errors=True)
                opened = open_services(made / "data")
                build(opened)
                opened.close()
                (made / "whole").touch()
        copy = self._fresh(name) / "data"
        shutil.copytree(made / "data", copy)
        return copy


def two_seats_taken(services: Services, *, layout: str, subs: int) -> int:
    """A job with two seats of two spots each, every channel taken and aligned; its number."""
    plan = new_plan(RoomSize(length_m=5.4, width_m=4.2, height_m=2.6), layout=layout, subs=subs, spots=2)
    job = services.jobs.create(JobDetails(name="Two seats"), plan=plan)
    services.room.add_seat(job.id, "Bench")
    for _ in range(2):
        services.room.add_spot(job.id, services.jobs.get(job.id).plan.seats[1].id)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    services.aligning.use_proposal(job.id)
    return job.id


def taken_room(prepared: Prepared, *, layout: str, subs: int) -> Path:
    """A data folder with such a job, number 1."""
    return prepared(f"{layout} and {subs} subs", lambda services: two_seats_taken(services, layout=layout, subs=subs))


def shaped_folder(prepared: Prepared) -> Path:
    """A data folder with a pair at two seats, filters found; the job is number 1."""

    def build(services: Services) -> None:
        services.finding.find(two_seats_taken(services, layout="2.0", subs=0))

    return prepared("shaped pair", build)


def shaped_pair(prepared: Prepared) -> Iterator[tuple[Services, int]]:
    """Services on such a folder, and the job's number; closed in the end."""
    services = open_services(shaped_folder(prepared))
    yield services, 1
    services.close()


def loaded_pair(prepared: Prepared) -> Iterator[tuple[Services, int]]:
    """The same with the correction in preset A and the alignment alone in B."""
    for services, job_id in shaped_pair(prepared):
        services.loading.load(job_id, "A", "corrected")
        services.loading.load(job_id, "B", "aligned")
        yield services, job_id
