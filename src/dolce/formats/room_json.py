"""Rooms as JSON, by the schema beside this module."""

import json
from functools import cache
from importlib import resources
from typing import TYPE_CHECKING, Any

from dolce.core.room import RoomPlan, plan_of, plan_values
from dolce.core.room.plan import known_channel
from dolce.errors import FormatError, InvalidValue

if TYPE_CHECKING:
    from jsonschema.exceptions import ValidationError

SCHEMA = json.loads(resources.files("dolce.formats").joinpath("room_schema.json").read_text("utf-8"))
LARGEST_BYTES = 1_000_000
_MOST_DIGITS = 15


def write_room(plan: RoomPlan) -> bytes:
    """The plan as indented JSON."""
    return (json.dumps(plan_values(plan), indent=1, ensure_ascii=False) + "\n").encode()


def read_room(data: bytes, *, name: str) -> RoomPlan:
    """A plan from JSON.

    Raises
    ------
    FormatError
        Naming the line, or the entry and field, that is not as the schema has it, or that makes no valid room.
    """
    if len(data) > LARGEST_BYTES:
        raise FormatError(f"the file has {len(data):,} bytes.", where=name, remedy="A room takes less than a megabyte.")
    try:
        values = json.loads(data.decode("utf-8-sig"), parse_constant=_refuse_constant, parse_int=_short_integer)
        json.dumps(values, ensure_ascii=False).encode()  # half of a character is no text
    except UnicodeEncodeError:
        raise FormatError(
            "a text holds half of a character (a lone surrogate).",
            where=name,
            remedy="Remove the escape \\ud800 ... \\udfff from it.",
        ) from None
    except UnicodeDecodeError:
        raise FormatError("this is not text.", where=name, remedy="Choose a JSON file of a room.") from None
    except (ValueError, RecursionError) as error:
        line = f", line {error.lineno}" if isinstance(error, json.JSONDecodeError) else ""
        problem = error.msg if isinstance(error, json.JSONDecodeError) else str(error) or "nested too deeply"
        raise FormatError(
            f"this is not JSON: {problem}.", where=f"{name}{line}", remedy="Choose a JSON file of a room."
        ) from None
    fault = _fault(values)
    if fault is not None:
        raise FormatError(_in_words(fault), where=f"{name}, {_path(fault)}", remedy="See the schema of room files.")
    unknown = [s["channel"] for s in values["speakers"] if not known_channel(s["channel"]) and not s.get("name")]
    if unknown:
        raise FormatError(
            f"{unknown[0]!r} is not a known channel.",
            where=f"{name}, speakers",
            remedy="Use a known code, or give the channel a name of its own.",
        )
    try:
        return plan_of(values)
    except InvalidValue as error:
        raise FormatError(error.problem, where=f"{name}, {error.where}", remedy=error.remedy) from error


def _fault(values: object) -> "ValidationError | None":
    """What of it is not as the schema has it, the weightiest."""
    from jsonschema.exceptions import best_match

    return best_match(_validator().iter_errors(values))


@cache
def _validator() -> Any:
    from jsonschema import Draft202012Validator  # at the first file: a start needs none

    return Draft202012Validator(SCHEMA)


def _refuse_constant(text: str) -> None:
    raise ValueError(f"{text} is not a number")


def _short_integer(text: str) -> int:
    if len(text) > _MOST_DIGITS:
        raise ValueError(f"{text[:12]}... has {len(text)} digits")
    return int(text)


def _path(fault: "ValidationError") -> str:
    """ "speakers, entry 3, x_m", or "the whole" at the top."""
    parts = [f"entry {part + 1}" if isinstance(part, int) else part for part in fault.absolute_path]
    return ", ".join(parts) or "the whole"


def _in_words(fault: "ValidationError") -> str:
    text: Any = fault.message
    return (text if len(text) <= 160 else f"{text[:80]} ... {text[-70:]}") + "."
