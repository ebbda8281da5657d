"""All or nothing: what is done inside is kept on success, and nothing of it on an error.

A changing unit takes the file's write lock at its start, so that it never fails half-way because another one wrote;
a looking one takes none, and several look at once.
"""

from types import TracebackType
from typing import Self

from dolce.store.database import Database
from dolce.store.repositories import (
    Jobs,
    KeptStates,
    Logbook,
    Microphones,
    Passes,
    Plans,
    Processors,
    Shapes,
    Takes,
)


class UnitOfWork:
    """One transaction over all repositories: `with UnitOfWork(database, write=True) as work: work.jobs.get(1)`."""

    def __init__(self, database: Database, *, write: bool) -> None:
        self._database = database
        self._write = write

    def __enter__(self) -> Self:
        self._session = self._database.new_session()
        self._session.connection(execution_options={"write": self._write})
        self.jobs = Jobs(self._session)
        self.plans = Plans(self._session)
        self.takes = Takes(self._session)
        self.passes = Passes(self._session)
        self.shapes = Shapes(self._session)
        self.logbook = Logbook(self._session)
        self.microphones = Microphones(self._session)
        self.processors = Processors(self._session)
        self.kept_states = KeptStates(self._session)
        return self

    def __exit__(self, kind: type[BaseException] | None, _value: BaseException | None,
                 _trace: TracebackType | None) -> None:
        try:
            if kind is None and self._write:
                self._session.commit()
            else:
                self._session.rollback()
        finally:
            self._session.close()
