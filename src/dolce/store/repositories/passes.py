"""Work with sound and where it stands."""

from collections.abc import Callable, Sequence
from datetime import datetime

from sqlalchemy import select, update
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from dolce.core.job import RESULT_OF, PassRecord, PassResult
from dolce.errors import Conflict
from dolce.store import encoding
from dolce.store.models import PassRow


class Passes:
    """Work with sound and where it stands."""

    def __init__(self, session: Session, truth: Callable[[PassRecord], PassRecord]) -> None:
        self._session = session
        self._truth = truth

    def start(
        self,
        job_id: int,
        *,
        kind: str,
        steps: Sequence[tuple[str, int]],
        seconds_per_step: float,
        at: datetime,
        result: PassResult = None,
    ) -> PassRecord:
        """A new running pass, or Conflict where one is running already; `result` is what it starts from."""
        row = PassRow(
            job_id=job_id,
            kind=kind,
            state="running",
            message="",
            steps=[list(s) for s in steps],
            done_steps=0,
            fraction=0.0,
            seconds_per_step=seconds_per_step,
            started_at=at,
            result=encoding.values_of(result),
        )
        self._session.add(row)
        try:
            self._session.flush()
        except IntegrityError:
            self._session.rollback()
            raise Conflict(
                "sound is playing already, perhaps from another tab.",
                where="pass",
                remedy="Wait until it ends, or stop it first.",
            ) from None
        return self.as_kept(row)  # nothing runs it yet: the thread will say when it does

    def get(self, pass_id: int) -> PassRecord:
        return self._record(self._session.get_one(PassRow, pass_id))

    def running(self) -> PassRecord | None:
        """The one that makes sound now, in whichever job."""
        row = self._session.scalar(select(PassRow).where(PassRow.state == "running"))
        record = None if row is None else self._record(row)
        return record if record is not None and record.state == "running" else None

    def latest(self, job_id: int, kind: str) -> PassRecord | None:
        row = self._session.scalar(
            select(PassRow).where(PassRow.job_id == job_id, PassRow.kind == kind).order_by(PassRow.id.desc()).limit(1)
        )
        return None if row is None else self._record(row)

    def advance(self, pass_id: int, *, done_steps: int) -> None:
        self._session.execute(update(PassRow).where(PassRow.id == pass_id).values(done_steps=done_steps))

    def finish(self, pass_id: int, *, state: str, message: str = "") -> None:
        self._session.execute(update(PassRow).where(PassRow.id == pass_id).values(state=state, message=message))

    def keep_result(self, pass_id: int, result: PassResult) -> None:
        """What it found, whatever its state."""
        self._session.execute(update(PassRow).where(PassRow.id == pass_id).values(result=encoding.values_of(result)))

    def settle(self) -> None:
        """Write down how passes ended whose rows still count as running; call it while none runs."""
        for row in self._session.scalars(select(PassRow).where(PassRow.state == "running")).all():
            ended = self._record(row)
            row.state, row.message = ended.state, ended.message
        self._session.flush()

    def _record(self, row: PassRow) -> PassRecord:
        return self._truth(self.as_kept(row))

    @staticmethod
    def as_kept(row: PassRow) -> PassRecord:
        return PassRecord(
            id=row.id,
            job_id=row.job_id,
            kind=row.kind,
            state=row.state,
            done_steps=row.done_steps,
            steps=tuple((channel, spot) for channel, spot in row.steps),
            fraction=row.fraction,
            seconds_per_step=row.seconds_per_step,
            message=row.message,
            started_at=row.started_at,
            result=_result(row),
        )


def _result(row: PassRow) -> PassResult:
    kind = RESULT_OF.get(row.kind)
    return None if kind is None else encoding.value_of(kind, row.result or {})
