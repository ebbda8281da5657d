"""Target curves as text: a frequency and a level a line, parted by blanks, tabs, semicolons or commas."""

import csv
import io
import re

import numpy as np
from numpy.typing import NDArray

from dolce.errors import FormatError

_MOST_LINES, _HIGHEST_DB = 20_000, 1000.0
_NUMBER = re.compile(r"[-+−]?\d+(?:[.,]\d+)?(?:[eE][-+]?\d+)?", re.ASCII)


def read_target(data: bytes, *, name: str) -> NDArray[np.float64]:
    """Rows of frequency in Hz and level in dB, by rising frequency, shape (points, 2).

    A comma between digits is a decimal comma where the line has another parting too (blank, tab, semicolon). Lines that
    begin with no number are taken for headings and notes.

    Raises
    ------
    FormatError
        Naming the line, for points that fall back or fewer than three of them.
    """
    text = data.decode("utf-8-sig", errors="replace").replace("\x00", "")
    rows: list[tuple[float, float]] = []
    for number, line in enumerate(text.splitlines()[:_MOST_LINES], 1):
        line = line.strip()
        if not line or not (line[0].isdigit() or line[0] in "+.-−"):
            continue
        cells = [cell for cell in re.split(r"[;\s]+", line) if cell]
        if len(cells) < 2:
            cells = [cell for cell in line.split(",") if cell]
        cells = [cell.strip().rstrip(",") for cell in cells[:2]]
        if len(cells) < 2 or not all(_NUMBER.fullmatch(cell) for cell in cells):
            raise FormatError(
                f"{line[:40]!r} is not a frequency and a level.",
                where=f"{name}, line {number}",
                remedy="Write as 63 0.5, one point a line.",
            )
        at, level = (float(cell.replace(",", ".").replace("−", "-")) for cell in cells)
        if not 1 <= at <= 48_000:
            raise FormatError(
                f"{at:g} Hz can't be a frequency.",
                where=f"{name}, line {number}",
                remedy="Write the frequency first, in Hz.",
            )
        if not abs(level) <= _HIGHEST_DB:
            raise FormatError(
                f"{level:g} dB can't be a level of a target.",
                where=f"{name}, line {number}",
                remedy="Write the level second, in dB.",
            )
        if rows and at <= rows[-1][0]:
            raise FormatError(
                f"{at:g} Hz follows {rows[-1][0]:g} Hz: the points are upside down or doubled.",
                where=f"{name}, line {number}",
                remedy="Sort them by rising frequency.",
            )
        rows.append((at, level))
    if len(rows) < 3:
        raise FormatError(f"{len(rows)} points.", where=name, remedy="A target needs at least three.")
    return np.array(rows)


def write_target(frequency_hz: NDArray, level_db: NDArray) -> bytes:
    """A target as CSV."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["frequency_hz", "level_db"])
    writer.writerows((f"{f:.2f}", f"{db:.2f}") for f, db in zip(frequency_hz, level_db, strict=True))
    return out.getvalue().encode()
