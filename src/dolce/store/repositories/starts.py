"""When the application was started: a wrong clock shows only beside other starts."""

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from dolce.store.models import StartRow


class Starts:
    """Moments of starts by this computer's clock."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def add(self, at: datetime) -> None:
        self._session.add(StartRow(at=at))

    def days(self, *, since: datetime, until: datetime) -> int:
        """On how many different days it was started between two moments."""
        day = func.date(StartRow.at)
        return (
            self._session.scalar(
                select(func.count(func.distinct(day))).where(StartRow.at >= since, StartRow.at <= until)
            )
            or 0
        )

    def latest(self) -> datetime | None:
        """The latest moment that any start has seen; None before the first."""
        return self._session.scalar(select(func.max(StartRow.at)))
