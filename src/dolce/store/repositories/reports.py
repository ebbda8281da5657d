"""What calibrators say in the reports of jobs."""

from sqlalchemy.orm import Session

from dolce.core.job import ReportWords
from dolce.store import encoding
from dolce.store.models import ReportRow


class Reports:
    """One a job."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def get(self, job_id: int) -> ReportWords:
        """What was said last; nothing before."""
        row = self._session.get(ReportRow, job_id)
        return ReportWords() if row is None else encoding.value_of(ReportWords, row.data)

    def keep(self, job_id: int, words: ReportWords) -> None:
        row = self._session.get(ReportRow, job_id)
        if row is None:
            self._session.add(ReportRow(job_id=job_id, data=encoding.values_of(words)))
        else:
            row.data = encoding.values_of(words)
        self._session.flush()
