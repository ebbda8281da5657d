"""A list of takes as CSV: which channel, which kind, at which spot of which seat, and the file with its response."""

import math
from dataclasses import dataclass

from dolce.errors import FormatError
from dolce.formats.csv_text import read_table

COLUMNS = ("channel", "kind", "spot", "seat", "file", "start_s")
KINDS = ("main", "sub")
LARGEST_BYTES = 2_000_000
MOST_TAKES = 5_000


@dataclass(frozen=True, slots=True, kw_only=True)
class ListedTake:
    """One line.

    Attributes
    ----------
    file : str
        As it stands there, relative to the list.
    start_s : float
        Time of the file's first sample after the moment the stimulus left.
    line : int
    """

    channel: str
    kind: str
    spot: str
    seat: str
    file: str
    start_s: float
    line: int


def read_takes(data: bytes, *, name: str) -> list[ListedTake]:
    """The takes of a list, in its order; columns may stand in any order.

    Raises
    ------
    FormatError
        Naming the line: columns that are missing, an unknown kind, text for a number, a take that is listed twice, a
        channel of two kinds.
    """
    at, rows = read_table(data, name=name, columns=COLUMNS, needed=COLUMNS, largest_bytes=LARGEST_BYTES)
    takes: list[ListedTake] = []
    kinds: dict[str, str] = {}
    seen: set[tuple[str, str, str]] = set()
    for number, row in rows:
        where = f"{name}, line {number}"
        if len(takes) >= MOST_TAKES:
            raise FormatError(f"more than {MOST_TAKES:,} takes.", where=where, remedy="Give one room at a time.")
        values = {column: row[place].strip() if place < len(row) else "" for column, place in at.items()}
        take = _take(values, number, where)
        if kinds.setdefault(take.channel, take.kind) != take.kind:
            raise FormatError(
                f"{take.channel} is a {kinds[take.channel]} above, and a {take.kind} here.",
                where=where,
                remedy="Give each channel one kind.",
            )
        if (take.channel, take.seat, take.spot) in seen:
            raise FormatError(f"{take.channel} at {take.spot} is listed twice.", where=where, remedy="Remove one.")
        seen.add((take.channel, take.seat, take.spot))
        takes.append(take)
    if not takes:
        raise FormatError("no takes are listed.", where=name, remedy="One line for each channel at each spot.")
    return takes


def _take(values: dict[str, str], line: int, where: str) -> ListedTake:
    empty = [column for column in COLUMNS if not values.get(column)]
    if empty:
        raise FormatError(f"{empty[0]} is empty.", where=where, remedy="Fill it in.")
    if values["kind"] not in KINDS:
        raise FormatError(f"{values['kind'][:20]!r} is no kind.", where=where, remedy="Write main or sub.")
    try:
        start_s = float(values["start_s"])
    except ValueError:
        start_s = math.nan
    if not math.isfinite(start_s) or abs(start_s) > 3600:
        raise FormatError(
            f"start_s {values['start_s'][:20]!r} is no time in seconds.",
            where=where,
            remedy="Write a number, with a point.",
        )
    return ListedTake(
        channel=values["channel"][:40],
        kind=values["kind"],
        spot=values["spot"][:80],
        seat=values["seat"][:80],
        file=values["file"],
        start_s=start_s,
        line=line,
    )
