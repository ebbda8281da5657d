"""Coordinates of a room as CSV: one line per speaker, seat, spot and drawing."""

import csv
import io
import math
from collections.abc import Iterator
from dataclasses import replace

from dolce.core.geometry import Point
from dolce.core.room import RoomPlan, moved
from dolce.errors import FormatError, InvalidValue, NotFound
from dolce.formats.csv_text import harmless, original, read_table

COLUMNS = ("kind", "code", "name", "x_m", "y_m", "z_m")
KINDS = ("speaker", "seat", "spot", "drawing")
_NEEDED = ("kind", "code", "x_m", "y_m", "z_m")
LARGEST_BYTES = 200_000


def write_places(plan: RoomPlan) -> bytes:
    """All places in metres from the front left corner of the floor."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows(
        (kind, harmless(str(code)), harmless(name), *(f"{v:.4f}" for v in (p.x_m, p.y_m, p.z_m)))
        for kind, code, name, p in _things(plan)
    )
    return out.getvalue().encode()


def _things(plan: RoomPlan) -> Iterator[tuple[str, str | int, str, Point]]:
    """Kind, code, name and place of everything that stands in a room."""
    yield from (("speaker", s.channel, s.title, s.place) for s in plan.speakers)
    yield from (("seat", s.id, s.name, s.place) for s in plan.seats)
    yield from (("spot", s.number, plan.belongs_to(s), s.place) for s in plan.spots)
    yield from (("drawing", b.id, b.title, b.place) for b in plan.boxes)


def read_places(data: bytes, plan: RoomPlan, *, name: str) -> RoomPlan:
    """The plan with the places of a CSV; things that the file does not name stay.

    Columns may stand in any order; the name is only for people.

    Raises
    ------
    FormatError
        Naming the line: wrong columns, an unknown kind or code, text for a number, a place outside the room.
    """
    at, rows = read_table(data, name=name, columns=COLUMNS, needed=_NEEDED, largest_bytes=LARGEST_BYTES)
    # Mirrored moves would undo what the next line says; the file has the last word on every thing.
    changed = replace(plan, mirror_pairs=False)
    seats_first = sorted(rows, key=lambda row: _is_spot(row[1], at))
    for number, row in seats_first:
        changed = _placed(changed, row, at, where=f"{name}, line {number}")
    return replace(changed, mirror_pairs=plan.mirror_pairs)


def _is_spot(row: list[str], at: dict[str, int]) -> bool:
    """Spots come after seats, which take their spots along."""
    return len(row) > at["kind"] and row[at["kind"]].strip() == "spot"


def _placed(plan: RoomPlan, row: list[str], at: dict[str, int], *, where: str) -> RoomPlan:
    """The plan with the thing of one line moved."""
    cells = {column: original(row[k].strip()) if k < len(row) else "" for column, k in at.items()}
    kind, code = cells["kind"], cells["code"]
    if kind not in KINDS:
        raise FormatError(f"{kind!r} is not a kind of thing.", where=where, remedy=f"Use {', '.join(KINDS)}.")
    try:
        values = [float(cells[axis]) for axis in ("x_m", "y_m", "z_m")]
    except ValueError:
        values = [math.nan]
    if not all(map(math.isfinite, values)):
        raise FormatError(
            f"{','.join(row)[:60]!r} has no three numbers for its place.",
            where=where,
            remedy="Give x_m, y_m and z_m in metres, with a point.",
        )
    spot_id = next((s.id for s in plan.spots if str(s.number) == code), 0)
    thing = {"speaker": code, "seat": f"seat-{code}", "spot": f"spot-{spot_id}", "drawing": f"box-{code}"}[kind]
    try:
        return moved(plan, thing, Point(x_m=values[0], y_m=values[1], z_m=values[2]))
    except NotFound:
        known = ", ".join(str(there) for among, there, _, _ in _things(plan) if among == kind)
        remedy = f"Use {known}." if known else "Leave the line out."
        raise FormatError(f"there is no {kind} {code!r} in this room.", where=where, remedy=remedy) from None
    except InvalidValue as error:
        raise FormatError(f"{error.where}: {error.problem}", where=where, remedy=error.remedy) from None
