"""What was done, when, and what it changed."""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from dolce.core.job import LogEntry
from dolce.store.models import LogbookRow


class Logbook:
    """What was done, when, and what it changed."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def add(self, job_id: int, text: str, *, at: datetime) -> None:
        self._session.add(LogbookRow(job_id=job_id, text=text, at=at))

    def latest(self, job_id: int, *, count: int, before: int | None = None) -> list[LogEntry]:
        """The last entries, the latest first; those before an entry's number, if given."""
        rows = self._session.scalars(
            select(LogbookRow)
            .where(LogbookRow.job_id == job_id, *(() if before is None else (LogbookRow.id < before,)))
            .order_by(LogbookRow.id.desc())
            .limit(count)
        )
        return [LogEntry(at=row.at, text=row.text, number=row.id) for row in rows]

    def last(self, job_id: int, *, start: str) -> str:
        """The last entry that begins with a text; empty where there is none."""
        return (
            self._session.scalar(
                select(LogbookRow.text)
                .where(LogbookRow.job_id == job_id, LogbookRow.text.startswith(start, autoescape=True))
                .order_by(LogbookRow.id.desc())
                .limit(1)
            )
            or ""
        )

    def all(self, job_id: int) -> list[LogEntry]:
        rows = self._session.scalars(select(LogbookRow).where(LogbookRow.job_id == job_id).order_by(LogbookRow.id))
        return [LogEntry(at=row.at, text=row.text) for row in rows]
