"""Alignments and corrections as they were made and edited, with undo and redo."""

from typing import Any

from dolce.core.tuning import Alignment, Correction
from dolce.store import encoding
from dolce.store.models import AlignmentStepRow, CorrectionStepRow
from dolce.store.repositories.steps import Steps


class Alignments(Steps[Alignment]):
    """Alignments as they were chosen."""

    row, column, position_column, where = AlignmentStepRow, "alignment", "alignment_position", "align"

    def encoded(self, value: Alignment) -> dict[str, Any]:
        return encoding.values_of(value)

    def decoded(self, values: dict[str, Any]) -> Alignment:
        return encoding.value_of(Alignment, values)


class Corrections(Steps[Correction]):
    """Corrections as they were found and edited."""

    row, column, position_column, where = CorrectionStepRow, "correction", "correction_position", "shape"

    def encoded(self, value: Correction) -> dict[str, Any]:
        return encoding.values_of(value)

    def decoded(self, values: dict[str, Any]) -> Correction:
        return encoding.value_of(Correction, values)
