"""What processors held before they were changed."""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from dolce.core.processor import ProcessorState
from dolce.errors import NotFound
from dolce.store import encoding
from dolce.store.models import KeptStateRow


class KeptStates:
    """States of a job's processor, each with the moment it was read."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def all(self, job_id: int) -> list[tuple[int, datetime, ProcessorState]]:
        """Number, moment and state, the latest first."""
        rows = self._session.scalars(select(KeptStateRow).where(KeptStateRow.job_id == job_id)
                                     .order_by(KeptStateRow.id.desc()))
        return [(row.id, row.at, encoding.processor_of(row.state)) for row in rows]

    def add(self, job_id: int, state: ProcessorState, *, at: datetime) -> None:
        self._session.add(KeptStateRow(job_id=job_id, at=at, state=encoding.processor_values(state)))

    def get(self, job_id: int, number: int) -> ProcessorState:
        row = self._session.get(KeptStateRow, number)
        if row is None or row.job_id != job_id:
            raise NotFound(f"there is no kept state {number}.", where="processor", remedy="Reload the page.")
        return encoding.processor_of(row.state)
