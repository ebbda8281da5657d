"""Rows of the board as lines of a table: how each group, and each row of its own, is played."""

from dataclasses import dataclass
from typing import Any

from dolce.core.job import GROUPS, HowTaken, Job
from dolce.web.shared.form_reader import FormReader

_GROUP_NAMES = {
    "fronts": "Fronts",
    "surrounds": "Surrounds",
    "heights": "Heights",
    "others": "Others",
    "subs": "Subs",
    "together": "Together",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class RowLine:
    """One line: a group, or a row of its own."""

    key: str
    title: str
    how: HowTaken
    apart: bool
    changed: bool


def row_lines(job: Job) -> list[RowLine]:
    """Groups that the board has, each followed by its rows that are played in a way of their own."""
    lines = []
    for group in GROUPS:
        feeds = [feed for feed in job.feeds if feed.group == group]
        if not feeds:
            continue
        # A group is seen by a row that has no way of its own; without one by its first.
        plain = next((feed for feed in feeds if feed.code not in job.rows.rows), None)
        how = job.rows.groups.get(group) or (job.rows.how(plain) if plain else HowTaken())
        members = ", ".join(feed.label for feed in feeds)
        lines.append(
            RowLine(
                key=group,
                title=f"{_GROUP_NAMES[group]} ({members})",
                how=how,
                apart=False,
                changed=group in job.rows.groups,
            )
        )
        lines += [
            RowLine(key=feed.code, title=feed.label, how=job.rows.rows[feed.code], apart=True, changed=True)
            for feed in feeds
            if feed.code in job.rows.rows
        ]
    return lines


def hows_of(form: FormReader, lines: list[RowLine]) -> dict[str, HowTaken | None]:
    """What was typed, by group or code, of the lines that were changed; faults stay in the form."""
    found: dict[str, HowTaken | None] = {}
    for line in lines:

        def number(name: str, key: str = line.key) -> float:
            return form.of(HowTaken, name, typed=f"{key}-{name}")

        values: dict[str, Any] = {
            "low_hz": number("low_hz"),
            "high_hz": number("high_hz"),
            "offset_db": number("offset_db"),
            "repeats": int(number("repeats")),
            "one_spot": form.flag(f"{line.key}-one_spot"),
            "sweep_s": number("sweep_s") if form.filled(f"{line.key}-sweep_s") else None,
        }
        if form.faults:
            continue
        how = HowTaken(**values)
        if how != line.how:
            found[line.key] = how
    return found
