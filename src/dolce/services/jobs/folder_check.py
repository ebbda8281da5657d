"""Whether everything in a data folder is still what was kept."""

from dataclasses import dataclass
from pathlib import Path

from dolce.core.job import TakeRecord
from dolce.errors import Damaged, NotFound
from dolce.services.context import Context
from dolce.store import Database, UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True)
class FolderReport:
    """How many jobs and takes were looked at, and what is wrong, a line each."""

    jobs: int
    takes: int
    faults: tuple[str, ...]


def check_folder(folder: Path) -> FolderReport:
    """Read everything in a data folder against its checksums; nothing is changed.

    Raises
    ------
    NotFound
        If there are no jobs in the folder.
    Conflict
        If a running application has it open.
    StorageError
        If it can't be opened.
    """
    if not (folder / "dolce.sqlite").exists():
        raise NotFound(
            "there is no dolce.sqlite in this folder.",
            where=str(folder),
            remedy="Name the folder of the jobs with --data.",
        )
    context = Context(Database(folder))
    try:
        with context.look() as work:
            jobs, damaged = work.jobs.listing()
            faults = [*context.database.faults(), *(f"{job.name}: {job.fault}" for job in damaged)]
            takes = 0
            for job_id, name in [*((job.id, job.name) for job in jobs), *((job.id, job.name) for job in damaged)]:
                for take in work.takes.of_job(job_id):
                    takes += 1
                    fault = _fault(work, take)
                    if fault:
                        faults.append(
                            f"{name}, {take.channel}, spot of id {take.spot_id}, attempt {take.attempt}: {fault}"
                        )
        return FolderReport(jobs=len(jobs) + len(damaged), takes=takes, faults=tuple(faults))
    finally:
        context.database.close()


def _fault(work: UnitOfWork, take: TakeRecord) -> str:
    """What is wrong with a take; empty for nothing."""
    if take.damaged:
        return "its level is not what was kept."
    if not take.has_response:
        return ""
    try:
        work.takes.recording(take.id)
    except Damaged as error:
        return error.problem
    return ""
