"""Jobs with their room, rig and processor."""

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, CursorResult, LargeBinary, Text, cast, delete, func, select, type_coerce, update
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import InstrumentedAttribute, Session

from dolce.core.job import DamagedJob, Job, Rig, Rows, Units
from dolce.core.processor import ProcessorState
from dolce.core.room import RoomPlan, plan_of, plan_values
from dolce.errors import Damaged, NotFound
from dolce.store import encoding
from dolce.store.encoding import TextCache
from dolce.store.models import JobRow, PlanStepRow, RoundRow, SamplesRow, TakeRow
from dolce.store.repositories.states import States

_REMEDY = "Restore a backup, or save what can be read from the list of jobs."
_DATES = "its dates or its texts can't be read any more."
# What a column ends in that holds what it should not: a date that is none, text that is no UTF-8.
_UNREADABLE = (ValueError, TypeError, OperationalError)


class Jobs:
    """Jobs with their room, rig and processor."""

    def __init__(self, session: Session, states: States, cache: TextCache) -> None:
        self._session = session
        self._states = states
        self._cache = cache
        # The session forgets rows that nobody holds, and would ask for a job again at every turn.
        self._held: dict[int, JobRow] = {}

    def all(self) -> list[Job]:
        """Jobs that are not deleted and can be read, the last changed first."""
        return self.listing()[0]

    def listing(self) -> tuple[list[Job], list[DamagedJob]]:
        """Jobs that are not deleted, the last changed first; and those of them that can't be read."""
        there = JobRow.deleted_at.is_(None)
        ids = self._session.scalars(
            select(JobRow.id).where(there).order_by(JobRow.changed_at.desc(), JobRow.id.desc())
        ).all()
        try:
            rows = self._with_plans(there)
        except _UNREADABLE:  # one of them: each for itself, so that it hides no other
            rows = {}
            for job_id in ids:
                with suppress(*_UNREADABLE):
                    rows |= self._with_plans(JobRow.id == job_id)
        self._states.look_at(
            {number for row, _ in rows.values() for number in (row.processor_id, row.simulated_id) if number}
        )
        good, damaged = [], []
        for job_id in ids:
            try:
                good.append(self._decoded(*rows[job_id]))
            except (Damaged, KeyError) as error:
                damaged.append(self._damaged(job_id, rows.get(job_id), error))
        return good, damaged

    def _with_plans(self, which: ColumnElement[bool]) -> dict[int, tuple[JobRow, str | None]]:
        """Rows of jobs with the texts of their present plans, by number."""
        rows = self._session.execute(
            select(JobRow, self._plan_text())
            .where(which)
            .outerjoin(PlanStepRow, (PlanStepRow.job_id == JobRow.id) & (PlanStepRow.position == JobRow.plan_position))
        )
        return {row.id: (row, plan) for row, plan in rows}

    def _damaged(self, job_id: int, row: tuple[JobRow, str | None] | None, error: Exception) -> DamagedJob:
        name, place = self._as_it_stands(job_id, JobRow.name, JobRow.place)
        return DamagedJob(
            id=job_id,
            name=name,
            place=place,
            changed_at=row[0].changed_at if row else None,
            fault=error.problem if isinstance(error, Damaged) else _DATES,
            takes=self._takes_of(job_id),
        )

    def deleted(self) -> list[tuple[int, str, datetime | None]]:
        """Number, name and moment of the jobs that can still be brought back, the latest first; None where the moment
        can't be read."""
        ids = self._session.scalars(
            select(JobRow.id).where(JobRow.deleted_at.is_not(None)).order_by(JobRow.deleted_at.desc())
        ).all()
        found: list[tuple[int, str, datetime | None]] = []
        for job_id in ids:
            name, moment = self._as_it_stands(job_id, JobRow.name, JobRow.deleted_at)
            try:
                found.append((job_id, name, datetime.fromisoformat(moment)))
            except ValueError:
                found.append((job_id, name, None))
        return found

    def get(self, job_id: int) -> Job:
        """One job that is not deleted, or NotFound; Damaged where it can't be read."""
        return self._job(self._row(job_id))

    def name(self, job_id: int) -> str:
        """The name of a job that is not deleted, whether the rest of it can be read or not."""
        self._require(job_id)
        return self._as_it_stands(job_id, JobRow.name)[0]

    def names(self) -> list[tuple[int, str]]:
        """Numbers and names of all jobs that are not deleted, by name."""
        return [
            (row.id, row.name)
            for row in self._session.execute(
                select(JobRow.id, JobRow.name).where(JobRow.deleted_at.is_(None)).order_by(JobRow.name, JobRow.id)
            )
        ]

    def family(self, job_id: int) -> list[Job]:
        """The other jobs of one room: the one that a job follows, and all that follow the same."""
        first = self._row(job_id).follows_id or job_id
        leads = []
        with suppress(Damaged, NotFound):
            leads.append(self.get(first))
        return [job for job in (*leads, *self.followers(first)) if job.id != job_id]

    def texts(self, job_id: int) -> dict[str, str]:
        """What is kept of a job, as it stands there, to be read by people where the application can't."""
        self._require(job_id)
        name, place, notes, rig, position, state = self._as_it_stands(
            job_id, JobRow.name, JobRow.place, JobRow.notes, JobRow.rig, JobRow.plan_position, JobRow.processor_id
        )
        plan = self._session.scalar(
            select(cast(PlanStepRow.plan, LargeBinary)).where(
                PlanStepRow.job_id == job_id, PlanStepRow.position == position
            )
        )
        return {
            "job.txt": f"{name}\n{place}\n\n{notes}\n",
            "plan.json": _text_of(plan),
            "rig.json": rig,
            "processor.json": self._states.body(state),
        }

    def add(
        self, *, name: str, place: str, notes: str, units: str, plan: RoomPlan, rig: Rig, seed: int, at: datetime
    ) -> Job:
        """A new job with one round "Untouched"."""
        neutral = self._states.keep(ProcessorState())
        row = JobRow(
            name=name,
            place=place,
            notes=notes,
            units=units,
            created_at=at,
            changed_at=at,
            seed=seed,
            rig=_text(rig),
            processor_id=neutral,
            simulated_id=neutral,
            plan_position=1,
        )
        self._session.add(row)
        self._session.flush()
        self._session.add(PlanStepRow(job_id=row.id, position=1, what="start", plan=plan_values(plan)))
        first = RoundRow(job_id=row.id, name="Untouched", created_at=at)
        self._session.add(first)
        self._session.flush()
        row.round_id = first.id
        return self._job(row)

    def rename(self, job_id: int, *, name: str, place: str, notes: str, units: Units) -> None:
        row = self._row(job_id)
        row.name, row.place, row.notes, row.units = name, place, notes, units

    def touch(self, job_id: int, at: datetime) -> None:
        self._row(job_id).changed_at = at

    def delete(self, job_id: int, at: datetime) -> None:
        """Set aside; nothing is lost until `purge`."""
        self._require(job_id)
        self._set_deleted(job_id, at)

    def restore(self, job_id: int) -> None:
        if not self._set_deleted(job_id, None):
            raise NotFound(f"job {job_id} is gone for good.", where="jobs")

    def _set_deleted(self, job_id: int, at: datetime | None) -> bool:
        """Whatever else its row holds; whether there is one."""
        self._held.pop(job_id, None)
        changed = self._session.execute(update(JobRow).where(JobRow.id == job_id).values(deleted_at=at))
        return isinstance(changed, CursorResult) and changed.rowcount > 0

    def purge(self, job_id: int) -> None:
        """Remove a job for good, with the samples that no other job shares."""
        self._session.execute(delete(JobRow).where(JobRow.id == job_id))
        used = select(TakeRow.samples_id).where(TakeRow.samples_id.is_not(None))
        self._session.execute(delete(SamplesRow).where(SamplesRow.id.not_in(used)))
        self._states.forget_unused()

    def set_rig(self, job_id: int, rig: Rig) -> None:
        self._row(job_id).rig = _text(rig)

    def set_rows(self, job_id: int, rows: Rows) -> None:
        self._row(job_id).rows = _text(rows)

    def set_processor(self, job_id: int, state: ProcessorState) -> None:
        """What the processor that Dolce loads was found to hold, or was said to."""
        self._row(job_id).processor_id = self._states.keep(state)
        self._session.flush()
        self._states.forget_unused()

    def set_simulated(self, job_id: int, state: ProcessorState) -> None:
        """What the rehearsal's processor holds from now on."""
        self._row(job_id).simulated_id = self._states.keep(state)

    def set_follows(self, job_id: int, other: int | None) -> None:
        """Whose room, seats and spots a job has from now on; None for its own."""
        self._row(job_id).follows_id = other

    def followers(self, job_id: int) -> list[Job]:
        """Jobs that follow one, by number; deleted ones and those that can't be read stay as they are."""
        ids = self._session.scalars(
            select(JobRow.id).where(JobRow.follows_id == job_id, JobRow.deleted_at.is_(None)).order_by(JobRow.id)
        ).all()
        found = []
        for number in ids:
            with suppress(Damaged):
                found.append(self.get(number))
        return found

    def set_round(self, job_id: int, round_id: int) -> None:
        self._row(job_id).round_id = round_id

    def _row(self, job_id: int) -> JobRow:
        row = self._held.get(job_id)
        if row is None:
            try:
                row = self._session.get(JobRow, job_id)
            except _UNREADABLE as error:
                raise Damaged(_DATES, where=self.name(job_id), remedy=_REMEDY) from error
        if row is None or row.deleted_at is not None:
            raise _no_job(job_id)
        self._held[job_id] = row
        return row

    def _require(self, job_id: int) -> None:
        """NotFound where there is no such job, or where it is deleted."""
        if self._session.scalar(select(JobRow.id).where(JobRow.id == job_id, JobRow.deleted_at.is_(None))) is None:
            raise _no_job(job_id)

    def _as_it_stands(self, job_id: int, *columns: InstrumentedAttribute) -> list[str]:
        """Columns of a job as text, whatever it is that they hold."""
        row = self._session.execute(
            select(*(cast(column, LargeBinary) for column in columns)).where(JobRow.id == job_id)
        )
        return [_text_of(count) for count in row.one()]

    def _takes_of(self, job_id: int) -> int:
        return (
            self._session.scalar(
                select(func.count())
                .select_from(TakeRow)
                .join(RoundRow, RoundRow.id == TakeRow.round_id)
                .where(RoundRow.job_id == job_id)
            )
            or 0
        )

    @staticmethod
    def _plan_text() -> Any:
        return type_coerce(PlanStepRow.plan, Text)

    def _job(self, row: JobRow) -> Job:
        plan = self._session.scalar(
            select(self._plan_text()).where(PlanStepRow.job_id == row.id, PlanStepRow.position == row.plan_position)
        )
        return self._decoded(row, plan)

    def _decoded(self, row: JobRow, plan_text: str | None) -> Job:
        if row.round_id is None:
            raise Damaged("it has no round.", where=row.name, remedy=_REMEDY)

        def part(what: str, text: str | None, decode: Callable[[Any], Any]) -> Any:
            with _readable(what, row.name):
                return self._cache.get_or((what, text or ""), lambda: decode(json.loads(text or "")))

        return Job(
            id=row.id,
            name=row.name,
            place=row.place,
            notes=row.notes,
            units=row.units,
            created_at=row.created_at,
            changed_at=row.changed_at,
            seed=row.seed,
            plan=part("plan", plan_text, plan_of),
            rig=part("rig", row.rig, lambda values: encoding.value_of(Rig, values)),
            round_id=row.round_id,
            follows=row.follows_id,
            rows=part("rows", row.rows or "{}", lambda values: encoding.value_of(Rows, values)),
            processor=self._state_of(row, row.processor_id),
            simulated=self._state_of(row, row.simulated_id),
        )

    def _state_of(self, row: JobRow, number: str | None) -> ProcessorState:
        with _readable("processor", row.name):
            return self._states.get(number or "")


def _text(value: Rig | Rows) -> str:
    return json.dumps(encoding.values_of(value))


@contextmanager
def _readable(what: str, job: str) -> Iterator[None]:
    """Damaged, where a part of a job can't be decoded."""
    try:
        yield
    except encoding.UNDECODABLE as error:
        raise Damaged(f"its {what} can't be read any more.", where=job, remedy=_REMEDY) from error


def _no_job(job_id: int) -> NotFound:
    return NotFound(f"there is no job {job_id}.", where="jobs", remedy="Go back to the list of jobs.")


def _text_of(data: bytes | None) -> str:
    return (data or b"").decode(errors="replace")
