"""The states of the Shape stop, with undo and redo."""

from typing import Any

from dolce.core.shape import Shape
from dolce.store import encoding
from dolce.store.models import ShapeStepRow
from dolce.store.repositories.steps import Steps


class Shapes(Steps[Shape]):
    """Corrections as they were found and edited."""

    row, column, position_column, where = ShapeStepRow, "shape", "shape_position", "shape"

    def encoded(self, value: Shape) -> dict[str, Any]:
        return encoding.shape_values(value)

    def decoded(self, values: dict[str, Any]) -> Shape:
        return encoding.shape_of(values)
