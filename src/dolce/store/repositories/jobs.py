"""Jobs with their room, rig and processor."""

from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from dolce.core.job import Job, Rig
from dolce.core.processor import ProcessorState
from dolce.core.room import RoomPlan, plan_of, plan_values
from dolce.errors import NotFound
from dolce.store import encoding
from dolce.store.models import JobRow, PlanStepRow, RoundRow


class Jobs:
    """Jobs with their room, rig and processor."""

    def __init__(self, session: Session) -> None:
        self._session = session
        # The session forgets rows that nobody holds, and would ask for a job again at every turn.
        self._held: dict[int, JobRow] = {}

    def all(self) -> list[Job]:
        """Jobs that are not deleted, the last changed first."""
        rows = self._session.scalars(select(JobRow).where(JobRow.deleted_at.is_(None))
                                     .order_by(JobRow.changed_at.desc(), JobRow.id.desc()))
        return [self._job(row) for row in rows]

    def deleted(self) -> list[tuple[int, str, datetime]]:
        """Number, name and moment of the jobs that can still be brought back, the latest first."""
        rows = self._session.scalars(select(JobRow).where(JobRow.deleted_at.is_not(None))
                                     .order_by(JobRow.deleted_at.desc()))
        return [(row.id, row.name, row.deleted_at) for row in rows]

    def get(self, job_id: int) -> Job:
        """One job that is not deleted, or NotFound."""
        return self._job(self._row(job_id))

    def add(self, *, name: str, place: str, notes: str, units: str, plan: RoomPlan, rig: Rig, seed: int,
            at: datetime) -> Job:
        """A new job with one round "Untouched"."""
        row = JobRow(name=name, place=place, notes=notes, units=units, created_at=at, changed_at=at, seed=seed,
                     rig=encoding.rig_values(rig), processor=encoding.processor_values(ProcessorState()),
                     plan_position=1)
        self._session.add(row)
        self._session.flush()
        self._session.add(PlanStepRow(job_id=row.id, position=1, what="start", plan=plan_values(plan)))
        first = RoundRow(job_id=row.id, name="Untouched", created_at=at)
        self._session.add(first)
        self._session.flush()
        row.round_id = first.id
        return self._job(row)

    def rename(self, job_id: int, *, name: str, place: str, notes: str, units: str) -> None:
        row = self._row(job_id)
        row.name, row.place, row.notes, row.units = name, place, notes, units

    def touch(self, job_id: int, at: datetime) -> None:
        self._row(job_id).changed_at = at

    def delete(self, job_id: int, at: datetime) -> None:
        """Set aside; nothing is lost until `purge`."""
        self._row(job_id).deleted_at = at

    def restore(self, job_id: int) -> None:
        row = self._session.get(JobRow, job_id)
        if row is None:
            raise NotFound(f"job {job_id} is gone for good.", where="jobs")
        row.deleted_at = None

    def purge(self, *, deleted_before: datetime) -> None:
        """Remove for good what was deleted before a moment."""
        self._session.execute(delete(JobRow).where(JobRow.deleted_at < deleted_before))

    def set_rig(self, job_id: int, rig: Rig) -> None:
        self._row(job_id).rig = encoding.rig_values(rig)

    def set_processor(self, job_id: int, state: ProcessorState) -> None:
        self._row(job_id).processor = encoding.processor_values(state)

    def set_round(self, job_id: int, round_id: int) -> None:
        self._row(job_id).round_id = round_id

    def align_wish(self, job_id: int) -> dict | None:
        """Trims and delays that the calibrator chose, or None."""
        return self._row(job_id).align_wish

    def set_align_wish(self, job_id: int, wish: dict | None) -> None:
        self._row(job_id).align_wish = wish

    def _row(self, job_id: int) -> JobRow:
        row = self._held.get(job_id) or self._session.get(JobRow, job_id)
        if row is None or row.deleted_at is not None:
            raise NotFound(f"there is no job {job_id}.", where="jobs", remedy="Go back to the list of jobs.")
        self._held[job_id] = row
        return row

    def _job(self, row: JobRow) -> Job:
        plan = self._session.scalars(select(PlanStepRow.plan).where(
            PlanStepRow.job_id == row.id, PlanStepRow.position == row.plan_position)).one()
        return Job(
            id=row.id, name=row.name, place=row.place, notes=row.notes, units=row.units, created_at=row.created_at,
            changed_at=row.changed_at, seed=row.seed, plan=plan_of(plan), rig=encoding.rig_of(row.rig),
            processor=encoding.processor_of(row.processor), round_id=row.round_id)
