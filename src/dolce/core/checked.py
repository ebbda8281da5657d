"""Checks at the door of value objects: what passes is valid for good, so nothing later checks again."""

import re
from dataclasses import dataclass, field, fields
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.errors import InvalidValue

_NO_TEXT = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")


def finite(
    values: ArrayLike, *, where: str, shape: tuple[int, ...] | None = None, dtype: type[np.floating] = np.float64
) -> NDArray[Any]:
    """A read-only float copy of `values`, all finite, of the given shape and precision; themselves if they are that.

    Raises
    ------
    InvalidValue
        If a value is not finite or the shape differs.
    """
    array: NDArray[Any] = (
        values
        if isinstance(values, np.ndarray)
        and values.dtype == dtype
        and values.base is None
        and not values.flags.writeable
        else np.array(values, dtype=dtype)
    )
    if shape is not None and array.shape != shape:
        raise InvalidValue(f"shape {array.shape} where {shape} is needed.", where=where)
    good = np.isfinite(array)
    if not good.all():
        raise InvalidValue(
            f"value {np.argmin(good.ravel()) + 1} is not a finite number.",
            where=where,
            remedy="Remove it or correct it.",
        )
    array.flags.writeable = False
    return array


def rising(values: ArrayLike, *, where: str) -> NDArray[np.float64]:
    """A read-only float copy of a strictly rising row of at least two values above 0."""
    array = finite(values, where=where)
    if array.ndim != 1 or array.size < 2:
        raise InvalidValue(f"{array.size} points.", where=where, remedy="At least two are needed.")
    if array[0] <= 0:
        raise InvalidValue(f"{array[0]:g} is not above 0.", where=where)
    late = np.flatnonzero(np.diff(array) <= 0)
    if late.size:
        k = int(late[0])
        raise InvalidValue(
            f"[{k + 1}]: {array[k + 1]:g} follows {array[k]:g}.",
            where=where,
            remedy="Sort the points and drop repeats.",
        )
    return array


def text(value: str, *, longest: int, where: str) -> str:
    """`value`, if it has no more than `longest` characters and pages and files can hold all of them.

    Raises
    ------
    InvalidValue
        If it is too long, or holds half of a character (a lone surrogate) or one that XML 1.0, 2.2 leaves out, such
        as most control characters.
    """
    if len(value) > longest:
        raise InvalidValue(f"{len(value):,} characters are too many.", where=where, remedy=f"Use up to {longest:,}.")
    bad = _NO_TEXT.search(value)
    if bad:
        raise InvalidValue(
            f"character {bad.start() + 1} (U+{ord(bad[0]):04X}) can't be shown.", where=where, remedy="Type it again."
        )
    return value


def within(value: float, *, low: float, high: float, where: str, unit: str = "") -> float:
    """`value` as a float between `low` and `high` inclusive, or InvalidValue saying the range."""
    number = float(value)
    if not low <= number <= high:
        raise InvalidValue(
            f"{number:g} {unit}".rstrip() + " is out of range.",
            where=where,
            remedy=f"Choose {low:g} to {high:g} {unit}".rstrip() + ".",
        )
    return number


@dataclass(frozen=True, slots=True)
class Range:
    """What a field of a value may hold, read by the value itself and by the forms that ask for it."""

    low: float
    high: float
    where: str
    unit: str = ""
    whole: bool = False

    def holds(self, value: float) -> float:
        """`value` as a float, if it lies inside; else InvalidValue."""
        return within(value, low=self.low, high=self.high, where=self.where, unit=self.unit)


def limited(low: float, high: float, *, where: str, unit: str = "", whole: bool = False, **more: Any) -> Any:
    """A field of a dataclass with a range; `more` goes to `dataclasses.field`."""
    return field(metadata={Range: Range(low, high, where, unit, whole)}, **more)


def values_in(value: Any) -> dict[str, Any]:
    """The fields of a dataclass by name, as they are."""
    return {field_.name: getattr(value, field_.name) for field_ in fields(value)}


def limited_fields(kind: type) -> tuple[str, ...]:
    """Names of the fields of a dataclass that have a range."""
    return tuple(field_.name for field_ in fields(kind) if Range in field_.metadata)


def range_of(kind: type, name: str) -> Range:
    """The range of a field that was declared with `limited`."""
    return next(f for f in fields(kind) if f.name == name).metadata[Range]


def ranges(value: Any, *, of: str = "") -> None:
    """Hold every limited field of a dataclass against its range; None passes.

    Raises
    ------
    InvalidValue
        Naming the first field that is out of range, behind `of` where that is given.
    """
    for field_ in fields(value):
        span, present = field_.metadata.get(Range), getattr(value, field_.name)
        if span is not None and present is not None:
            within(
                present, low=span.low, high=span.high, where=f"{of}, {span.where}" if of else span.where, unit=span.unit
            )
