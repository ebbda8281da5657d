"""The one place where text from outside becomes an integer or a number."""

import math
import re
from collections.abc import Mapping

from werkzeug.routing import IntegerConverter

# More digits than any of our numbers has; what is longer is no number of ours, and costs time to convert.
_MOST_DIGITS = 15
_WHOLE = re.compile(rf"[0-9]{{1,{_MOST_DIGITS}}}", re.ASCII)
_NUMBER = re.compile(r"[+-]?(?:[0-9]{1,15}(?:\.[0-9]{0,30})?|\.[0-9]{1,30})(?:[eE][+-]?[0-9]{1,3})?", re.ASCII)


def whole_of(text: str | None, *, low: int = 0, high: int = 10**9) -> int | None:
    """An integer between `low` and `high` written in plain digits; None for anything else."""
    if text is None or not _WHOLE.fullmatch(text.strip()):
        return None
    value = int(text)
    return value if low <= value <= high else None


def seen_of(query: Mapping[str, str]) -> int | None:
    """The last take that a page showed, as its buttons say it in their address; None where they don't."""
    return whole_of(query.get("seen"), high=10**_MOST_DIGITS)


def number_of(text: str | None) -> float | None:
    """A finite number, with point or comma and any minus sign; None for anything else."""
    plain = (text or "").strip().replace("−", "-").replace(",", ".")
    if not _NUMBER.fullmatch(plain):
        return None
    value = float(plain)
    return value if math.isfinite(value) else None


class ShortInteger(IntegerConverter):
    """Integers in addresses: plain digits, and none that the store has no room for."""

    regex = rf"[0-9]{{1,{_MOST_DIGITS}}}"
