"""All or nothing: what is done inside is kept on success, and nothing of it on an error.

A changing unit takes the file's write lock at its start, so that it never fails half-way because another one wrote;
a looking one takes none, and several look at once. What the database complains of becomes a StorageError.
"""

import json
from collections.abc import Callable
from types import TracebackType
from typing import Self

from sqlalchemy.exc import DBAPIError

from dolce.core.job import PassRecord
from dolce.errors import Damaged
from dolce.store.database import Database
from dolce.store.repositories import (
    Alignments,
    AlignmentVersions,
    Corrections,
    CorrectionVersions,
    Jobs,
    KeptStates,
    KeptTargets,
    Logbook,
    Microphones,
    Passes,
    Plans,
    Processors,
    Reports,
    Selections,
    Starts,
    States,
    SwitchShelf,
    Takes,
    Tolerances,
)
from dolce.store.trouble import in_words

_NO_DATE = "Invalid isoformat string"  # how it begins when a column holds no date


class UnitOfWork:
    """One transaction over all repositories: `with UnitOfWork(database, write=True) as work: work.jobs.get(1)`.

    `standing` is asked before anything is read, and its answer then tells of a pass whose row counts as running where
    it stood: only the thread that runs it knows. Asked later, it would tell of steps whose takes are not seen here.
    """

    def __init__(
        self,
        database: Database,
        *,
        write: bool,
        standing: Callable[[], Callable[[PassRecord], PassRecord]] = lambda: lambda record: record,
    ) -> None:
        self._database = database
        self._write = write
        self._standing = standing

    def __enter__(self) -> Self:
        self._session = self._database.new_session()
        try:
            self._session.connection(execution_options={"write": self._write})
        except DBAPIError as error:
            self._session.close()
            raise in_words(error) from error
        texts = self._database.text_cache
        states = States(self._session, self._database.state_cache)
        self.jobs = Jobs(self._session, states, texts)
        self.plans = Plans(self._session, texts)
        self.takes = Takes(self._session, states, self._database.take_cache)
        self.passes = Passes(self._session, self._standing())
        self.alignments = Alignments(self._session, texts)
        self.corrections = Corrections(self._session, texts)
        self.logbook = Logbook(self._session)
        self.microphones = Microphones(self._session)
        self.processors = Processors(self._session)
        self.kept_states = KeptStates(self._session, states)
        self.selections = Selections(self._session)
        self.alignment_versions = AlignmentVersions(self._session)
        self.correction_versions = CorrectionVersions(self._session)
        self.targets = KeptTargets(self._session)
        self.switches = SwitchShelf(self._session)
        self.tolerances = Tolerances(self._session)
        self.reports = Reports(self._session)
        self.starts = Starts(self._session)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, value: BaseException | None, _trace: TracebackType | None
    ) -> None:
        try:
            if kind is None and self._write:
                self._session.commit()
            else:
                self._session.rollback()
        except DBAPIError as error:
            if value is None:
                raise in_words(error) from error
        finally:
            self._session.close()
        if isinstance(value, DBAPIError):
            raise in_words(value) from value
        if isinstance(value, json.JSONDecodeError) or (type(value) is ValueError and str(value).startswith(_NO_DATE)):
            raise Damaged(
                "a part of this job can't be read any more.",
                where="data folder",
                remedy="Restore a backup, or save what can be read from the list of jobs.",
            ) from value
