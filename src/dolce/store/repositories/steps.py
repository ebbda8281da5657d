"""States that can be undone and done again, one row per state; used for plan, alignment and correction."""

import json
from typing import Any, ClassVar, Generic, TypeVar

from sqlalchemy import Text, delete, select, type_coerce
from sqlalchemy.orm import Session

from dolce.errors import Conflict, Outdated
from dolce.store import encoding
from dolce.store.encoding import TextCache
from dolce.store.models import JobRow, StepRow

MOST_STEPS = 200
Value = TypeVar("Value")


class Steps(Generic[Value]):
    """The states of one stop of a job. Which rows, and how a value is written, the classes below it say."""

    row: ClassVar[type[StepRow]]
    column: ClassVar[str]  # of the row, that holds the value
    position_column: ClassVar[str]  # of the job, that holds the number of the current state
    where: ClassVar[str]

    def __init__(self, session: Session, cache: TextCache) -> None:
        self._session = session
        self._cache = cache

    def current(self, job_id: int) -> Value | None:
        """The state that holds now; None before the first."""
        return self._at(job_id, self.position(job_id))

    def add(self, job_id: int, value: Value, *, what: str) -> None:
        """Make `value` the current state; what had been undone is dropped, and what lies very far back."""
        position = self.position(job_id)
        rows = self.row
        self._session.execute(
            delete(rows).where(
                rows.job_id == job_id, (rows.position > position) | (rows.position <= position - MOST_STEPS)
            )
        )
        self._session.add(rows(job_id=job_id, position=position + 1, what=what, **{self.column: self.encoded(value)}))
        self._move(job_id, position + 1)

    def neighbours(self, job_id: int) -> tuple[str | None, str | None]:
        """What undo would take back and what redo would do again; None where there is nothing."""
        position = self.position(job_id)
        rows = self.row
        near = {
            row.position: row.what
            for row in self._session.execute(
                select(rows.position, rows.what).where(
                    rows.job_id == job_id, rows.position.between(position - 1, position + 1)
                )
            )
        }
        return near.get(position) if position - 1 in near else None, near.get(position + 1)

    def version(self, job_id: int) -> str:
        """What tells the current state from any other; empty before the first."""
        text = self._text(job_id, self.position(job_id))
        return "" if text is None else encoding.checksum(text.encode())[:12]

    def require(self, job_id: int, seen: str) -> None:
        """Outdated where the current state is not the one that was seen; an empty one is not asked."""
        if seen and seen != self.version(job_id):
            step = self._step(job_id, self.position(job_id))
            raise Outdated(
                f"this was changed in another tab since: {step.what if step else 'taken back'}.",
                where=self.where,
                remedy="Here is how it stands now. Do yours again if it still fits.",
            )

    def previous(self, job_id: int) -> Value | None:
        """The state before the current one; None where there is none."""
        return self._at(job_id, self.position(job_id) - 1)

    def undo(self, job_id: int, *, seen: str = "") -> None:
        """One step back; Outdated where the state is not the one that was seen, Conflict where there is none before."""
        self.require(job_id, seen)
        if self._step(job_id, self.position(job_id) - 1) is None:
            raise Conflict("there is nothing to undo.", where=self.where)
        self._move(job_id, self.position(job_id) - 1)

    def redo(self, job_id: int, *, seen: str = "") -> None:
        """One step forward; errors as above."""
        self.require(job_id, seen)
        if self._step(job_id, self.position(job_id) + 1) is None:
            raise Conflict("there is nothing to do again.", where=self.where)
        self._move(job_id, self.position(job_id) + 1)

    def position(self, job_id: int) -> int:
        """Number of the current state; 0 where there is none yet."""
        return self._session.scalar(select(getattr(JobRow, self.position_column)).where(JobRow.id == job_id)) or 0

    def encoded(self, value: Value) -> dict[str, Any]:
        raise NotImplementedError

    def decoded(self, values: dict[str, Any]) -> Value:
        raise NotImplementedError

    def _at(self, job_id: int, position: int) -> Value | None:
        text = self._text(job_id, position)
        return None if text is None else self._cache.get_or((self.column, text), lambda: self.decoded(json.loads(text)))

    def _text(self, job_id: int, position: int) -> str | None:
        return self._session.scalar(
            select(type_coerce(getattr(self.row, self.column), Text)).where(
                self.row.job_id == job_id, self.row.position == position
            )
        )

    def _move(self, job_id: int, position: int) -> None:
        setattr(self._session.get_one(JobRow, job_id), self.position_column, position)
        self._session.flush()

    def _step(self, job_id: int, position: int) -> StepRow | None:
        return self._session.scalar(select(self.row).where(self.row.job_id == job_id, self.row.position == position))
