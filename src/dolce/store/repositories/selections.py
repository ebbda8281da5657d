"""What was looked at on Read, kept by name."""

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from dolce.store.models import SelectionRow


class Selections:
    """Addresses of Read by name, job by job."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def all(self, job_id: int) -> list[tuple[int, str, str]]:
        """Number, name and address, by name."""
        rows = self._session.scalars(
            select(SelectionRow).where(SelectionRow.job_id == job_id).order_by(SelectionRow.name)
        )
        return [(row.id, row.name, row.address) for row in rows]

    def keep(self, job_id: int, *, name: str, address: str) -> None:
        """Keep an address under a name, in place of one that has it."""
        self._session.execute(delete(SelectionRow).where(SelectionRow.job_id == job_id, SelectionRow.name == name))
        self._session.add(SelectionRow(job_id=job_id, name=name, address=address))
        self._session.flush()

    def remove(self, job_id: int, number: int) -> None:
        """Forget one; nothing happens where it is gone already."""
        self._session.execute(delete(SelectionRow).where(SelectionRow.job_id == job_id, SelectionRow.id == number))
