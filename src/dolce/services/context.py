"""What every service works with: the store, the clock, and what sounds now."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime

from dolce.services.align.bass_takes import BassTakes
from dolce.services.background import Background
from dolce.services.read.round_curves import ShapingCurves
from dolce.services.sound.sounding import SoundingNow
from dolce.services.takes.sketches import Sketches
from dolce.store import Database, UnitOfWork


def utc_now() -> datetime:
    """Now, without a zone, as the store keeps it."""
    return datetime.now(UTC).replace(tzinfo=None)


@dataclass(frozen=True, slots=True)
class Context:
    """The open store, the clock, curves that several pages need, what sounds now, and what is done behind the pages."""

    database: Database
    now: Callable[[], datetime] = utc_now
    curves: ShapingCurves = field(default_factory=ShapingCurves)
    sketches: Sketches = field(default_factory=Sketches)
    sounding: SoundingNow = field(default_factory=SoundingNow)
    bass: BassTakes = field(default_factory=BassTakes)
    background: Background = field(default_factory=Background)

    def change(self) -> UnitOfWork:
        """One transaction that may write."""
        return UnitOfWork(self.database, write=True, standing=self.sounding.standing)

    def look(self) -> UnitOfWork:
        """One transaction that only reads."""
        return UnitOfWork(self.database, write=False, standing=self.sounding.standing)
