"""Jobs: list, create, copy, delete and bring back."""

import tempfile
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import timedelta
from typing import IO

from dolce.core import checked
from dolce.core.job import DamagedJob, Job, LogEntry, Rig, Units
from dolce.core.room import RoomPlan, new_plan
from dolce.core.tuning import Correction
from dolce.errors import InvalidForm, InvalidValue
from dolce.services.context import Context

KEEP_DELETED = timedelta(days=7)
# A clock that is wrong for an hour must not make a week pass: so many different days have to say that it has.
CONFIRMED_ON_DAYS = 3
_LONGEST = {"name": 80, "place": 120, "notes": 20_000}
_IN_MEMORY_BYTES = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class JobDetails:
    """What is typed about a job."""

    name: str
    place: str = ""
    notes: str = ""
    units: Units = "metres"


class JobKeeping:
    """The list of jobs."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def all(self) -> list[Job]:
        with self._context.look() as work:
            return work.jobs.all()

    def listing(self) -> tuple[list[Job], list[DamagedJob]]:
        """All jobs, and those that can't be read."""
        with self._context.look() as work:
            return work.jobs.listing()

    def started(self) -> None:
        """Take down this start, and let go for good what was deleted more than a week ago, if that is sure.

        A computer's clock may be wrong. So a week has passed only when starts on three different days say so, and
        never while the clock is behind one that an earlier start has shown.
        """
        now = self._context.now()
        with self._context.change() as work:
            latest = work.starts.latest()
            work.starts.add(now)
            if latest is not None and latest > now:
                return
            for job_id, _, deleted_at in work.jobs.deleted():
                if deleted_at is None:  # it can't be read: let go by a person alone
                    continue
                if work.starts.days(since=deleted_at + KEEP_DELETED, until=now) >= CONFIRMED_ON_DAYS:
                    work.jobs.purge(job_id)

    def salvage(self, job_id: int) -> tuple[IO[bytes], str]:
        """What can be read of a job, as a ZIP at its beginning, and a file name: texts, logbook, raw recordings."""
        out = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY_BYTES)  # noqa: SIM115 - handed on
        with self._context.look() as work, zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as package:
            name = work.jobs.name(job_id)
            for file_name, text in work.jobs.texts(job_id).items():
                package.writestr(file_name, text)
            package.writestr(
                "logbook.txt",
                "".join(f"{entry.at:%Y-%m-%d %H:%M:%S} {entry.text}\n" for entry in work.logbook.all(job_id)),
            )
            for number, (recording_name, data, unchanged) in enumerate(work.takes.samples_as_kept(job_id), 1):
                package.writestr(f"recordings/{number:04d}{'' if unchanged else '-damaged'}-{recording_name}", data)
        out.seek(0)
        return out, f"{name} as far as it can be read.zip"

    def get(self, job_id: int) -> Job:
        with self._context.look() as work:
            return work.jobs.get(job_id)

    def name(self, job_id: int) -> str:
        """Of a job, whether the rest of it can be read or not."""
        with self._context.look() as work:
            return work.jobs.name(job_id)

    def deleted(self) -> list[tuple[int, str]]:
        """Jobs that can be brought back."""
        with self._context.look() as work:
            return [(job_id, name) for job_id, name, _ in work.jobs.deleted()]

    def create(self, details: JobDetails, *, plan: RoomPlan | None = None) -> Job:
        """A new job with its plan, or with a usual room, a pair at 60 degrees and nine spots, all to be moved."""
        _check(details)
        plan = plan or new_plan()
        now = self._context.now()
        with self._context.change() as work:
            job = work.jobs.add(
                name=details.name.strip(),
                place=details.place.strip(),
                notes=details.notes.strip(),
                units=details.units,
                plan=plan,
                rig=Rig(),
                seed=1,
                at=now,
            )
            work.logbook.add(job.id, "Job created.", at=now)
        return job

    def edit(self, job_id: int, details: JobDetails) -> None:
        _check(details)
        with self._context.change() as work:
            work.jobs.rename(
                job_id,
                name=details.name.strip(),
                place=details.place.strip(),
                notes=details.notes.strip(),
                units=details.units,
            )
            work.jobs.touch(job_id, self._context.now())

    def copy(self, job_id: int, *, with_takes: bool = True, name: str | None = None) -> Job:
        """A second job with all that the first one holds; without takes it starts at its first round."""
        now = self._context.now()
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            new = work.jobs.add(
                name=name or f"{job.name}, copy",
                place=job.place,
                notes=job.notes,
                units=job.units,
                plan=job.plan,
                rig=job.rig,
                seed=job.seed,
                at=now,
            )
            if with_takes:
                work.takes.remove_rounds(new.id)
                renumbered = work.takes.copy_all(job_id, new.id)
                work.jobs.set_round(new.id, renumbered[job.round_id])
                work.jobs.set_processor(new.id, job.processor)
                work.jobs.set_simulated(new.id, job.simulated)
                alignment, correction = work.alignments.current(job_id), work.corrections.current(job_id)
                if alignment is not None:
                    alignment = replace(alignment, round_id=renumbered.get(alignment.round_id or 0))
                    work.alignments.add(new.id, alignment, what="copied")
                for saved in work.alignment_versions.all(job_id):
                    moved = replace(saved.alignment, round_id=renumbered.get(saved.alignment.round_id or 0))
                    work.alignment_versions.keep(new.id, moved, at=saved.at)
                for kept in work.correction_versions.all(job_id):
                    work.correction_versions.keep(new.id, _renumbered(kept.correction, renumbered), at=kept.at)
                if correction is not None:
                    work.corrections.add(new.id, _renumbered(correction, renumbered), what="copied")
            work.logbook.add(new.id, f"Copied from {job.name}.", at=now)
        return new

    def copy_for_recheck(self, job_id: int) -> Job:
        """A copy with everything in it that goes on with a round of its own, to be held against those of before."""
        new = self.copy(job_id, name=self._free_name(f"{self.name(job_id)}, re-check"))
        with self._context.change() as work:
            fresh = work.takes.add_round(new.id, name="Re-check", at=self._context.now())
            work.jobs.set_round(new.id, fresh.id)
            work.logbook.add(new.id, "New round Re-check.", at=self._context.now())
        return self.get(new.id)

    def copy_for_other_speakers(self, job_id: int) -> Job:
        """A job for other loudspeakers in the same room: it follows the first one's room, seats and spots."""
        name, now = self._free_name(f"{self.name(job_id)}, other loudspeakers"), self._context.now()
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            first = job if job.follows is None else work.jobs.get(job.follows)
            new = work.jobs.add(
                name=name,
                place=job.place,
                notes="",
                units=job.units,
                plan=replace(job.plan, dismissed=()),
                rig=job.rig,
                seed=job.seed,
                at=now,
            )
            work.jobs.set_follows(new.id, first.id)
            work.logbook.add(
                new.id,
                f"Other loudspeakers in the room of {first.name}: room, seats and spots follow "
                "it until they are changed here.",
                at=now,
            )
        return self.get(new.id)

    def _free_name(self, wanted: str) -> str:
        """A name that no other job has."""
        taken, name, number = {job.name for job in self.all()}, wanted, 2
        while name in taken:
            name, number = f"{wanted} {number}", number + 1
        return name

    def delete(self, job_id: int) -> str:
        """Set a job aside for a week at least; returns its name."""
        with self._context.change() as work:
            name = work.jobs.name(job_id)
            work.jobs.delete(job_id, self._context.now())
        return name

    def restore(self, job_id: int) -> None:
        with self._context.change() as work:
            work.jobs.restore(job_id)

    def logbook(self, job_id: int) -> list[LogEntry]:
        with self._context.look() as work:
            return work.logbook.all(job_id)


def _check(details: JobDetails) -> None:
    faults = {}
    for name, longest in _LONGEST.items():
        try:
            checked.text(getattr(details, name), longest=longest, where=name)
        except InvalidValue as error:
            faults[name] = f"{error.problem} {error.remedy}"
    if not details.name.strip():
        faults["name"] = "A job needs a name, such as the room's."
    if details.units not in ("metres", "feet"):
        faults["units"] = "Choose metres or feet."
    if faults:
        raise InvalidForm(faults)


def _renumbered(correction: Correction, rounds: Mapping[int, int]) -> Correction:
    """A correction that starts from, and stands on, the copies of its rounds."""
    stood_on = correction.alignment
    return replace(
        correction,
        round_id=rounds.get(correction.round_id or 0),
        alignment=stood_on and replace(stood_on, round_id=rounds.get(stood_on.round_id or 0)),
    )
