"""The logbook as a report: takes of one round in a row become one line."""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from itertools import groupby

# As `services/takes/taking` writes them.
_TAKE = re.compile(r"Take of (?P<row>.+?) at (?P<spot>.+), round (?P<round>.+): (?P<word>[a-z ]+)\.")


@dataclass(frozen=True, slots=True, kw_only=True)
class LogEntry:
    """One line of the logbook; `number` orders them."""

    at: datetime
    text: str
    number: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class LogGroup:
    """One line of the report, and when it began and ended.

    Attributes
    ----------
    entries : the lines of the logbook that it stands for, the earliest first
    """

    begun_at: datetime
    ended_at: datetime
    text: str
    entries: tuple[LogEntry, ...]

    @property
    def day(self) -> str:
        """On which it began, as 2026-01-31."""
        return f"{self.begun_at:%Y-%m-%d}"

    @property
    def lasted(self) -> bool:
        """Whether it ended in a later minute than it began, as a clock shows them."""
        return f"{self.begun_at:%Y-%m-%d %H:%M}" != f"{self.ended_at:%Y-%m-%d %H:%M}"


def grouped(entries: Iterable[LogEntry]) -> Iterator[LogGroup]:
    """Entries in the order of time: takes of one round that follow each other are one line, the others stay."""
    for key, rows in groupby(entries, key=_round_of):
        if key is None:
            yield from (
                LogGroup(begun_at=entry.at, ended_at=entry.at, text=entry.text, entries=(entry,)) for entry in rows
            )
            continue
        members = tuple(rows)
        yield LogGroup(begun_at=members[0].at, ended_at=members[-1].at, text=_words(members, key), entries=members)


def _round_of(entry: LogEntry) -> str | None:
    found = _TAKE.fullmatch(entry.text)
    return found["round"] if found else None


def _words(entries: tuple[LogEntry, ...], name: str) -> str:
    if len(entries) == 1:
        return entries[0].text
    found = [take for entry in entries if (take := _TAKE.fullmatch(entry.text))]
    rows = list(dict.fromkeys(take["row"] for take in found))
    spots = len({take["spot"] for take in found})
    spoiled = sum(take["word"] != "clean" for take in found)
    of = ", ".join(rows) if len(rows) <= 4 else f"{len(rows)} rows"
    return (
        f"{len(entries)} takes of {of} at {spots} spot{'s' if spots > 1 else ''}, round {name}"
        + (f"; {spoiled} not clean" if spoiled else "")
        + "."
    )
