"""The states of the Room stop, with undo and redo."""

from typing import Any

from dolce.core.room import RoomPlan, plan_of, plan_values
from dolce.store.models import PlanStepRow
from dolce.store.repositories.steps import Steps


class Plans(Steps[RoomPlan]):
    """Plans as they were drawn and changed."""

    row, column, position_column, where = PlanStepRow, "plan", "plan_position", "room"

    def encoded(self, value: RoomPlan) -> dict[str, Any]:
        return plan_values(value)

    def decoded(self, values: dict[str, Any]) -> RoomPlan:
        return plan_of(values)
