"""Form text to typed values; all faults are gathered and shown each beside its field."""

import math
from collections.abc import Mapping

from werkzeug.datastructures import FileStorage

from dolce.errors import FormatError, InvalidForm, InvalidValue

FEET_PER_METRE = 1 / 0.3048


class FormReader:
    """Reads fields one by one; `done` raises InvalidForm with every fault found."""

    def __init__(self, form: Mapping[str, str]) -> None:
        self._form = form
        self.faults: dict[str, str] = {}

    def text(self, name: str, default: str = "") -> str:
        return self._form.get(name, default).strip()

    def number(self, name: str, *, low: float, high: float, unit: str = "", default: float | None = None) -> float:
        """A number, with point or comma; outside `low`..`high` it is a fault."""
        raw = self._form.get(name, "").strip().replace("−", "-").replace(",", ".")
        if not raw and default is not None:
            return default
        try:
            value = float(raw)
        except ValueError:
            value = math.nan
        if not math.isfinite(value):
            self.faults[name] = "A number is needed." if raw else "Fill this in."
            return low
        if not low <= value <= high:
            end = f" {unit}" if unit else ""
            self.faults[name] = f"{value:g}{end} is out of range. Choose {low:g} to {high:g}{end}."
            return low
        return value

    def length_m(self, name: str, *, low: float, high: float, units: str) -> float:
        """A length typed in metres or feet, in metres; the limits are in metres."""
        if units == "feet":
            feet = self.number(name, low=round(low * FEET_PER_METRE, 2), high=round(high * FEET_PER_METRE, 2),
                               unit="ft")
            return feet / FEET_PER_METRE
        return self.number(name, low=low, high=high, unit="m")

    def whole(self, name: str, *, low: int, high: int) -> int:
        value = self.number(name, low=low, high=high)
        if name not in self.faults and value != int(value):
            self.faults[name] = "A whole number is needed."
        return int(value)

    def choice(self, name: str, choices: tuple[str, ...]) -> str:
        value = self._form.get(name, "")
        if value not in choices:
            self.faults[name] = f"Choose {', '.join(choices)}."
            return choices[0]
        return value

    def flag(self, name: str) -> bool:
        return bool(self._form.get(name))

    def blame(self, error: InvalidValue, names: Mapping[str, str], otherwise: str) -> None:
        """Put a fault found by the core beside the field it is about."""
        self.faults[names.get(error.where, otherwise)] = f"{error.problem} {error.remedy}".strip()

    def done(self) -> None:
        if self.faults:
            raise InvalidForm(self.faults)


def uploaded(file: FileStorage | None) -> tuple[bytes, str]:
    """Bytes and name of an uploaded file; FormatError where none was chosen."""
    if file is None or not file.filename:
        raise FormatError("no file was chosen.", remedy="Choose one first.")
    return file.read(), file.filename[:80]
