"""The states of the Shape stop, with undo and redo."""


from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from dolce.core.shape import Shape
from dolce.errors import Conflict
from dolce.store import encoding
from dolce.store.models import (
    JobRow,
    ShapeStepRow,
)


class Shapes:
    """The states of the Shape stop, with undo and redo."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def current(self, job_id: int) -> Shape | None:
        step = self._step(job_id, self._position(job_id))
        return None if step is None else encoding.shape_of(step.shape)

    def add(self, job_id: int, shape: Shape, *, what: str) -> None:
        """Make `shape` the current state; what had been undone is dropped."""
        position = self._position(job_id)
        self._session.execute(delete(ShapeStepRow).where(ShapeStepRow.job_id == job_id,
                                                         ShapeStepRow.position > position))
        self._session.add(ShapeStepRow(job_id=job_id, position=position + 1, what=what,
                                       shape=encoding.shape_values(shape)))
        self._move(job_id, position + 1)

    def neighbours(self, job_id: int) -> tuple[str | None, str | None]:
        """What undo would take back and what redo would do again; None where there is nothing."""
        position = self._position(job_id)
        now, later = self._step(job_id, position), self._step(job_id, position + 1)
        return (now.what if now and position > 1 else None), (later.what if later else None)

    def undo(self, job_id: int) -> None:
        if self._position(job_id) <= 1:
            raise Conflict("there is nothing to undo.", where="shape")
        self._move(job_id, self._position(job_id) - 1)

    def redo(self, job_id: int) -> None:
        if self._step(job_id, self._position(job_id) + 1) is None:
            raise Conflict("there is nothing to do again.", where="shape")
        self._move(job_id, self._position(job_id) + 1)

    def position(self, job_id: int) -> int:
        """Number of the current state; 0 where there is none yet."""
        return self._position(job_id)

    def _position(self, job_id: int) -> int:
        return self._session.scalar(select(JobRow.shape_position).where(JobRow.id == job_id)) or 0

    def _move(self, job_id: int, position: int) -> None:
        self._session.get_one(JobRow, job_id).shape_position = position
        self._session.flush()

    def _step(self, job_id: int, position: int) -> ShapeStepRow | None:
        return self._session.scalar(select(ShapeStepRow).where(ShapeStepRow.job_id == job_id,
                                                               ShapeStepRow.position == position))
