"""Alignments and corrections that were kept by name, job by job."""

from dataclasses import dataclass
from datetime import datetime
from typing import ClassVar, Generic, TypeVar

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from dolce.core.tuning import Alignment, Correction
from dolce.errors import NotFound
from dolce.store import encoding
from dolce.store.models import AlignmentVersionRow, CorrectionVersionRow, VersionRow

Value = TypeVar("Value", Alignment, Correction)


@dataclass(frozen=True, slots=True, kw_only=True)
class AlignmentVersion:
    """An alignment with its name in it, and when it was kept."""

    number: int
    at: datetime
    alignment: Alignment


@dataclass(frozen=True, slots=True, kw_only=True)
class CorrectionVersion:
    """A correction with its name in it, and when it was kept."""

    number: int
    at: datetime
    correction: Correction


Version = TypeVar("Version", AlignmentVersion, CorrectionVersion)


class _Versions(Generic[Version, Value]):
    """Values by name."""

    row: ClassVar[type[VersionRow]]
    kind: ClassVar[type]
    version: ClassVar[type]
    column: ClassVar[str]
    where: ClassVar[str]

    def __init__(self, session: Session) -> None:
        self._session = session

    def all(self, job_id: int) -> list[Version]:
        """In the order in which they were kept."""
        rows = self._session.scalars(select(self.row).where(self.row.job_id == job_id).order_by(self.row.id))
        return [self._version(row) for row in rows]

    def get(self, job_id: int, number: int) -> Version:
        """One of a job, or NotFound."""
        row = self._session.scalar(select(self.row).where(self.row.job_id == job_id, self.row.id == number))
        if row is None:
            raise NotFound(f"that {self.column} is no longer kept.", where=self.where, remedy="Reload the page.")
        return self._version(row)

    def keep(self, job_id: int, value: Value, *, at: datetime) -> None:
        """Keep one under its name, in place of one that has it."""
        self._session.execute(delete(self.row).where(self.row.job_id == job_id, self.row.name == value.name))
        self._session.add(self.row(job_id=job_id, name=value.name, at=at, **{self.column: encoding.values_of(value)}))
        self._session.flush()

    def remove(self, job_id: int, number: int) -> None:
        """Forget one; nothing happens where it is gone already."""
        self._session.execute(delete(self.row).where(self.row.job_id == job_id, self.row.id == number))

    def _version(self, row: VersionRow) -> Version:
        value = encoding.value_of(self.kind, getattr(row, self.column))
        return self.version(number=row.id, at=row.at, **{self.column: value})


class AlignmentVersions(_Versions[AlignmentVersion, Alignment]):
    """Alignments by name."""

    row, kind, version, column, where = AlignmentVersionRow, Alignment, AlignmentVersion, "alignment", "align"


class CorrectionVersions(_Versions[CorrectionVersion, Correction]):
    """Corrections by name."""

    row, kind, version, column, where = CorrectionVersionRow, Correction, CorrectionVersion, "correction", "shape"
