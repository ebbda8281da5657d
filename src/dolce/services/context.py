"""What every service works with: the store and the clock."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime

from dolce.services.round_curves import ShapingCurves
from dolce.store import Database, UnitOfWork


def utc_now() -> datetime:
    """Now, without a zone, as the store keeps it."""
    return datetime.now(UTC).replace(tzinfo=None)


@dataclass(frozen=True, slots=True)
class Context:
    """The open store, the clock, and curves that several pages need."""

    database: Database
    now: Callable[[], datetime] = utc_now
    curves: ShapingCurves = field(default_factory=ShapingCurves)

    def change(self) -> UnitOfWork:
        """One transaction that may write."""
        return UnitOfWork(self.database, write=True)

    def look(self) -> UnitOfWork:
        """One transaction that only reads."""
        return UnitOfWork(self.database, write=False)
