"""What calibrators say in the stories of jobs."""

from sqlalchemy.orm import Session

from dolce.core.job import StoryWords
from dolce.store import encoding
from dolce.store.models import StoryRow


class Stories:
    """One a job."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def get(self, job_id: int) -> StoryWords:
        """What was said last; nothing before."""
        row = self._session.get(StoryRow, job_id)
        return StoryWords() if row is None else encoding.value_of(StoryWords, row.data)

    def keep(self, job_id: int, words: StoryWords) -> None:
        row = self._session.get(StoryRow, job_id)
        if row is None:
            self._session.add(StoryRow(job_id=job_id, data=encoding.values_of(words)))
        else:
            row.data = encoding.values_of(words)
        self._session.flush()
