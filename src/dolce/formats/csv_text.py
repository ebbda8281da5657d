"""Tables of text from outside: read with their heading; cells that spreadsheets would evaluate made harmless.

References
----------
OWASP, "CSV Injection": cells that begin with = + - @, a tab or a line end are evaluated by spreadsheets.
"""

import csv
from collections.abc import Sequence

from dolce.errors import FormatError

_EVALUATED = ("=", "+", "-", "@", "\t", "\r", "\n")
_GUARD = "'"


def harmless(text: str) -> str:
    """The text, with an apostrophe before it where a spreadsheet would evaluate it, or where it begins with one."""
    return _GUARD + text if text.startswith((*_EVALUATED, _GUARD)) else text


def original(cell: str) -> str:
    """What `harmless` was given; any other text as it is."""
    return cell[1:] if cell.startswith(_GUARD) and cell[1:].startswith((*_EVALUATED, _GUARD)) else cell


def read_table(
    data: bytes, *, name: str, columns: Sequence[str], needed: Sequence[str], largest_bytes: int
) -> tuple[dict[str, int], list[tuple[int, list[str]]]]:
    """Where each needed column stands, and the lines that hold something with their numbers.

    Raises
    ------
    FormatError
        If it is too large, no table, or lacks a column.
    """
    remedy = f"Begin with the line {','.join(columns)}."
    if len(data) > largest_bytes:
        raise FormatError(f"the file has {len(data):,} bytes.", where=name, remedy="A list like this takes a few kB.")
    try:
        rows = list(csv.reader(data.decode("utf-8-sig").replace("\x00", "").splitlines()))
    except (csv.Error, UnicodeDecodeError):
        raise FormatError("this is not a table of columns.", where=name, remedy=remedy) from None
    heading = [cell.strip() for cell in rows[0]] if rows else []
    missing = [column for column in needed if column not in heading]
    if missing:
        raise FormatError(f"no column {', '.join(missing)} in the first line.", where=f"{name}, line 1", remedy=remedy)
    return (
        {column: heading.index(column) for column in needed},
        [(number, row) for number, row in enumerate(rows[1:], 2) if any(cell.strip() for cell in row)],
    )
