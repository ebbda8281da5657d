"""What a calibrator keeps for all jobs: microphones, what processors can do, targets, switches, tolerances."""

from datetime import datetime
from typing import Any, ClassVar, Generic, TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from dolce.core.correction import KeptTarget, MonitorSwitches
from dolce.core.processor import ProcessorLimits
from dolce.core.rig import Microphone
from dolce.core.tolerance import ToleranceSet
from dolce.errors import NotFound
from dolce.store import encoding
from dolce.store.models import MicrophoneRow, MonitorSwitchesRow, ProcessorRow, ShelfRow, TargetRow, ToleranceRow

Value = TypeVar("Value", Microphone, ProcessorLimits, KeptTarget, MonitorSwitches, ToleranceSet)


class Shelf(Generic[Value]):
    """Things under names; what is taken away can be brought back."""

    row: ClassVar[type[ShelfRow]]
    kind: ClassVar[type]
    what: ClassVar[str]

    def __init__(self, session: Session) -> None:
        self._session = session

    def all(self) -> list[Value]:
        """In the order of their names."""
        rows = self._session.scalars(
            select(self.row).where(self.row.deleted_at.is_(None)).order_by(self.row.name, self.row.id)
        )
        return [self._value(row) for row in rows]

    def deleted(self) -> list[Value]:
        """What was taken away, the latest first."""
        rows = self._session.scalars(
            select(self.row).where(self.row.deleted_at.is_not(None)).order_by(self.row.deleted_at.desc())
        )
        return [self._value(row) for row in rows]

    def get(self, number: int | None) -> Value:
        return self._value(self._row(number))

    def add(self, value: Value) -> Value:
        row = self.row(name=value.name, data=self._data(value))
        self._session.add(row)
        self._session.flush()
        return self._value(row)

    def change(self, value: Value) -> None:
        """Keep a changed one under its number."""
        row = self._row(value.id)
        row.name, row.data = value.name, self._data(value)

    def delete(self, number: int | None, at: datetime) -> None:
        self._row(number).deleted_at = at

    def restore(self, number: int) -> None:
        self._row(number).deleted_at = None

    @staticmethod
    def _data(value: Value) -> dict[str, Any]:
        return {key: v for key, v in encoding.values_of(value).items() if key != "id"}

    def _value(self, row: ShelfRow) -> Value:
        return encoding.value_of(self.kind, {**row.data, "id": row.id})

    def _row(self, number: int | None) -> ShelfRow:
        row = None if number is None else self._session.get(self.row, number)
        if row is None:
            raise NotFound(f"there is no {self.what} {number}.", where=self.what, remedy="Reload the page.")
        return row


class Microphones(Shelf[Microphone]):
    """The calibrator's microphones."""

    row, kind, what = MicrophoneRow, Microphone, "microphone"


class Processors(Shelf[ProcessorLimits]):
    """What the calibrator's processors can do."""

    row, kind, what = ProcessorRow, ProcessorLimits, "processor"


class KeptTargets(Shelf[KeptTarget]):
    """Targets of the calibrator, with or without a preference."""

    row, kind, what = TargetRow, KeptTarget, "target"


class SwitchShelf(Shelf[MonitorSwitches]):
    """What the switches of the calibrator's monitors do, model by model."""

    row, kind, what = MonitorSwitchesRow, MonitorSwitches, "model of monitor"


class Tolerances(Shelf[ToleranceSet]):
    """Sets of tolerances of the calibrator's own."""

    row, kind, what = ToleranceRow, ToleranceSet, "set of tolerances"
