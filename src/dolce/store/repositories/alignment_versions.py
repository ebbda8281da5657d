"""Alignments that were kept by name, job by job."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from dolce.core.tuning import Alignment
from dolce.errors import NotFound
from dolce.store import encoding
from dolce.store.models import AlignmentVersionRow


@dataclass(frozen=True, slots=True, kw_only=True)
class AlignmentVersion:
    """An alignment with its name in it, and when it was kept."""

    number: int
    at: datetime
    alignment: Alignment


class AlignmentVersions:
    """Alignments by name."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def all(self, job_id: int) -> list[AlignmentVersion]:
        """In the order in which they were kept."""
        rows = self._session.scalars(select(AlignmentVersionRow).where(AlignmentVersionRow.job_id == job_id)
                                     .order_by(AlignmentVersionRow.id))
        return [_version(row) for row in rows]

    def get(self, job_id: int, number: int) -> AlignmentVersion:
        """One of a job, or NotFound."""
        row = self._session.scalar(select(AlignmentVersionRow).where(
            AlignmentVersionRow.job_id == job_id, AlignmentVersionRow.id == number))
        if row is None:
            raise NotFound("that alignment is no longer kept.", where="align", remedy="Reload the page.")
        return _version(row)

    def keep(self, job_id: int, alignment: Alignment, *, at: datetime) -> None:
        """Keep one under its name, in place of one that has it."""
        self._session.execute(delete(AlignmentVersionRow).where(
            AlignmentVersionRow.job_id == job_id, AlignmentVersionRow.name == alignment.name))
        self._session.add(AlignmentVersionRow(job_id=job_id, name=alignment.name, at=at,
                                              alignment=encoding.values_of(alignment)))
        self._session.flush()

    def remove(self, job_id: int, number: int) -> None:
        """Forget one; nothing happens where it is gone already."""
        self._session.execute(delete(AlignmentVersionRow).where(
            AlignmentVersionRow.job_id == job_id, AlignmentVersionRow.id == number))


def _version(row: AlignmentVersionRow) -> AlignmentVersion:
    return AlignmentVersion(number=row.id, at=row.at, alignment=encoding.value_of(Alignment, row.alignment))
