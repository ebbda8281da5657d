"""Form text to typed values; all faults are gathered and shown each beside its field.

Two tabs may show the same form. Every field carries what it showed (`was-NAME`), so what a person did not touch never
overwrites what another tab has saved since; and where both changed the same field, the later one is shown that.
"""

import math
import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import TypeVar

from werkzeug.datastructures import FileStorage

from dolce.core.checked import Range, range_of
from dolce.errors import FormatError, InvalidForm, InvalidValue
from dolce.web.shared.numbers import number_of
from dolce.words.numbers import length_number, plain

_NUMBER = r"(\d+(?:[.,]\d+)?)"
_FEET_INCHES = re.compile(
    rf"""([-−]?)\s*(?:{_NUMBER}\s*(?:'|′|ft|feet))?\s*(?:{_NUMBER}\s*(?:"|″|''|in|inches))?""", re.ASCII
)
_LONGEST_FILE_NAME = 80
Value = TypeVar("Value")
Choice = TypeVar("Choice", bound=str)
WholeChoice = TypeVar("WholeChoice", bound=int)


def metres_of_feet(text: str) -> float | None:
    """Metres of a length typed as 7' 6.9", 7 ft 6.9 in, 6.9", or 7.58 (feet); None for anything else."""
    text = text.strip().lower()[:40]
    just_feet = re.fullmatch(rf"([-−]?)\s*{_NUMBER}", text, re.ASCII)
    if just_feet:
        sign, feet, inches = just_feet[1], just_feet[2], None
    else:
        found = _FEET_INCHES.fullmatch(text)
        if found is None or (found[2] is None and found[3] is None):
            return None
        sign, feet, inches = found[1], found[2], found[3]
    metres = sum(float(part.replace(",", ".")) * size for part, size in ((feet, 0.3048), (inches, 0.0254)) if part)
    return -metres if sign else metres


class FormReader:
    """Reads fields one by one; `done` raises InvalidForm with every fault found.

    `kept` holds what the fields' values are at present, as attributes or by name: a field that was not touched keeps
    its value, whatever the page showed.
    """

    def __init__(self, form: Mapping[str, str], *, kept: object = None) -> None:
        self._form = form
        self._kept = kept
        self.faults: dict[str, str] = {}

    def text(self, name: str, default: str = "") -> str:
        # Browsers send line ends of their own.
        value = self._form.get(name, default).replace("\r\n", "\n").strip()
        return self._settled(name, value, lambda raw: raw.replace("\r\n", "\n").strip(), lambda v: f"“{v}”")

    def number(self, name: str, *, low: float, high: float, unit: str = "", default: float | None = None) -> float:
        """A number, with point or comma; outside `low`..`high` it is a fault."""
        raw = self._form.get(name, "").strip()
        if not raw and default is not None:
            return default
        value = number_of(raw)
        if value is None:
            self.faults[name] = "A number is needed." if raw else "Fill this in."
            return low
        if not low <= value <= high:
            end = f" {unit}" if unit else ""
            self.faults[name] = f"{value:g}{end} is out of range. Choose {low:g} to {high:g}{end}."
            return low
        return self._settled(name, value, number_of, lambda v: f"{plain(v)} {unit}".rstrip())

    def of(
        self,
        kind: type,
        name: str,
        *,
        typed: str = "",
        per_unit: float = 1.0,
        unit: str = "",
        default: float | None = None,
    ) -> float:
        """The number for a field of a value object, within the range that stands there.

        `typed` is the form's name where it is another one; `per_unit` how many of its units make one of the value's.
        """
        return self.inside(range_of(kind, name), typed or name, per_unit=per_unit, unit=unit, default=default)

    def inside(
        self, span: Range, typed: str, *, per_unit: float = 1.0, unit: str = "", default: float | None = None
    ) -> float:
        """The number inside a range; otherwise as `of`."""
        if span.whole:
            return self.whole(typed, low=int(span.low), high=int(span.high))
        return (
            self.number(
                typed, low=span.low * per_unit, high=span.high * per_unit, unit=unit or span.unit, default=default
            )
            / per_unit
        )

    def length_m(self, name: str, *, low: float, high: float, units: str, now: float | None = None) -> float:
        """A length typed in metres, or in feet and inches, in metres; the limits are in metres.

        A text that is what is shown for `now` keeps `now` exactly.
        """
        raw = self._form.get(name, "").strip()
        if now is not None and (raw == length_number(now, units) or raw == self._form.get(f"was-{name}")):
            return now
        if units != "feet":
            return self.number(name, low=low, high=high, unit="m")
        metres = metres_of_feet(raw)
        if metres is None:
            self.faults[name] = "Feet and inches are needed, as 7' 6.9\"." if raw else "Fill this in."
            return low
        if not low - 1e-9 <= metres <= high + 1e-9:
            self.faults[name] = (
                f"{raw} is out of range. Choose {length_number(low, units)} to {length_number(high, units)}."
            )
            return low
        return metres

    def length_of(self, kind: type, name: str, *, typed: str, units: str, now: float | None = None) -> float:
        """The length for a field of a value object, within the range that stands there; otherwise as `length_m`."""
        span = range_of(kind, name)
        return self.length_m(typed, low=span.low, high=span.high, units=units, now=now)

    def whole(self, name: str, *, low: int, high: int) -> int:
        value = self.number(name, low=low, high=high)
        if name not in self.faults and value != int(value):
            self.faults[name] = "A whole number is needed."
        return int(value)

    def choice(self, name: str, choices: tuple[Choice, ...]) -> Choice:
        value = self._form.get(name, "")
        chosen = next((choice for choice in choices if choice == value), None)
        if chosen is None:
            self.faults[name] = f"Choose {', '.join(choices)}."
            return choices[0]
        settled = self._settled(name, value, lambda raw: raw, lambda v: f"“{v}”")
        return next((choice for choice in choices if choice == settled), chosen)

    def whole_choice(self, name: str, choices: tuple[WholeChoice, ...]) -> WholeChoice:
        """One of some whole numbers."""
        chosen = self.choice(name, tuple(str(number) for number in choices))
        return next(number for number in choices if str(number) == chosen)

    def filled(self, name: str) -> bool:
        """Whether anything stands in a field."""
        return bool(self._form.get(name, "").strip())

    def flag(self, name: str) -> bool:
        return bool(self._form.get(name))

    def blame(self, error: InvalidValue, names: Mapping[str, str], otherwise: str) -> None:
        """Put a fault found by the core beside the field it is about."""
        self.faults[names.get(error.where, otherwise)] = f"{error.problem} {error.remedy}".strip()

    @contextmanager
    def blaming(self, names: Mapping[str, str], otherwise: str) -> Iterator[None]:
        """InvalidForm with what the core refuses, beside the field it is about, and with every other fault found."""
        try:
            yield
        except InvalidValue as error:
            self.blame(error, names, otherwise)
        self.done()

    def done(self) -> None:
        if self.faults:
            raise InvalidForm(self.faults)

    def _settled(
        self, name: str, typed: Value, read: Callable[[str], Value | None], words: Callable[[Value], str]
    ) -> Value:
        """What was typed; or what is there now, where nobody typed; or a fault, where two tabs did."""
        raw = self._form.get(f"was-{name}")
        now = self._kept.get(name) if isinstance(self._kept, Mapping) else getattr(self._kept, name, None)
        if now is None or raw is None:
            return typed
        was = read(raw)
        if _same(typed, was):
            return now
        if not _same(now, was) and not _same(now, typed):
            self.faults[name] = (
                f"In another tab this became {words(now)} since this page was shown. "
                "Save again to put yours in its place."
            )
        return typed


def _same(first: object, other: object) -> bool:
    if isinstance(first, float | int) and isinstance(other, float | int):
        return math.isclose(first, other, rel_tol=1e-9, abs_tol=1e-12)
    return first == other


def uploaded(file: FileStorage | None) -> tuple[bytes, str]:
    """Bytes and name of an uploaded file; FormatError where none was chosen."""
    if file is None or not file.filename:
        raise FormatError("no file was chosen.", remedy="Choose one first.")
    data = file.read()
    file.close()  # large ones lie in a file of their own
    # A name is only for people: what is no character becomes a question mark.
    return data, file.filename[:_LONGEST_FILE_NAME].encode("utf-8", "replace").decode()
