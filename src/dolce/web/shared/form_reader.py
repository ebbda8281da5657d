"""Form text to typed values; all faults are gathered and shown each beside its field."""

import math
import re
from collections.abc import Mapping

from werkzeug.datastructures import FileStorage

from dolce.errors import FormatError, InvalidForm, InvalidValue
from dolce.web.shared.formatting import length_number

_NUMBER = r"(\d+(?:[.,]\d+)?)"
_FEET_INCHES = re.compile(rf"""([-−]?)\s*(?:{_NUMBER}\s*(?:'|′|ft|feet))?\s*(?:{_NUMBER}\s*(?:"|″|''|in|inches))?""")


def metres_of_feet(text: str) -> float | None:
    """Metres of a length typed as 7' 6.9", 7 ft 6.9 in, 6.9", or 7.58 (feet); None for anything else."""
    text = text.strip().lower()
    plain = re.fullmatch(rf"([-−]?)\s*{_NUMBER}", text)
    if plain:
        sign, feet, inches = plain[1], plain[2], None
    else:
        found = _FEET_INCHES.fullmatch(text)
        if found is None or (found[2] is None and found[3] is None):
            return None
        sign, feet, inches = found[1], found[2], found[3]
    metres = sum(float(part.replace(",", ".")) * size for part, size in ((feet, 0.3048), (inches, 0.0254)) if part)
    return -metres if sign else metres


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

    def length_m(self, name: str, *, low: float, high: float, units: str, now: float | None = None) -> float:
        """A length typed in metres, or in feet and inches, in metres; the limits are in metres.

        A text that is what is shown for `now` keeps `now` exactly.
        """
        raw = self._form.get(name, "").strip()
        if now is not None and raw == length_number(now, units):
            return now
        if units != "feet":
            return self.number(name, low=low, high=high, unit="m")
        metres = metres_of_feet(raw)
        if metres is None:
            self.faults[name] = "Feet and inches are needed, as 7' 6.9\"." if raw else "Fill this in."
            return low
        if not low - 1e-9 <= metres <= high + 1e-9:
            self.faults[name] = (f"{raw} is out of range. Choose {length_number(low, units)} "
                                 f"to {length_number(high, units)}.")
            return low
        return metres

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
