"""What processors held before they were changed."""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from dolce.core.processor import ProcessorState
from dolce.errors import NotFound
from dolce.store.models import KeptStateRow
from dolce.store.repositories.states import States


class KeptStates:
    """States of a job's processor, each with the moment it was read."""

    def __init__(self, session: Session, states: States) -> None:
        self._session = session
        self._states = states

    def all(self, job_id: int) -> list[tuple[int, datetime, ProcessorState]]:
        """Number, moment and state, the latest first."""
        rows = self._session.scalars(
            select(KeptStateRow).where(KeptStateRow.job_id == job_id).order_by(KeptStateRow.id.desc())
        ).all()
        states = self._states.all({row.state_id for row in rows})
        return [(row.id, row.at, states[row.state_id]) for row in rows]

    def has(self, job_id: int, state: ProcessorState) -> bool:
        """Whether a state is among those that were kept."""
        return (
            self._session.scalar(
                select(KeptStateRow.id)
                .where(KeptStateRow.job_id == job_id, KeptStateRow.state_id == self._states.keep(state))
                .limit(1)
            )
            is not None
        )

    def add(self, job_id: int, state: ProcessorState, *, at: datetime) -> None:
        self._session.add(KeptStateRow(job_id=job_id, at=at, state_id=self._states.keep(state)))

    def get(self, job_id: int, number: int) -> ProcessorState:
        row = self._session.get(KeptStateRow, number)
        if row is None or row.job_id != job_id:
            raise NotFound(f"there is no kept state {number}.", where="processor", remedy="Reload the page.")
        return self._states.get(row.state_id)
