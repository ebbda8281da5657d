"""Frequency responses as CSV: frequency_hz, level_db, phase_deg."""

import csv
import io

import numpy as np
from numpy.typing import NDArray

from dolce.core.response import FrequencyResponse
from dolce.errors import FormatError, InvalidValue

COLUMNS = ("frequency_hz", "level_db", "phase_deg")
_HIGHEST_HZ, _LARGEST_DB = 1e6, 400.0


def write_response(frequency_hz: NDArray, level_db: NDArray, phase_deg: NDArray) -> bytes:
    """CSV with a heading line; six decimals of level, so that nothing measurable is lost."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows(
        (f"{f:.6f}", f"{level:.6f}", f"{phase:.4f}")
        for f, level, phase in zip(frequency_hz, level_db, phase_deg, strict=True)
    )
    return out.getvalue().encode()


def read_response(data: bytes, *, name: str) -> FrequencyResponse:
    """Level over frequency from a CSV with the columns frequency_hz and level_db, in any order, and phase_deg where
    there is one; others are ignored.

    Raises
    ------
    FormatError
        Naming the line.
    """
    text = data.decode("utf-8-sig", errors="replace").replace("\x00", "")
    try:
        rows = list(csv.reader(text.splitlines()))
    except csv.Error as error:
        raise FormatError(
            f"this is not a table of columns: {error}.",
            where=name,
            remedy=f"Give the columns {', '.join(COLUMNS[:2])}.",
        ) from error
    if not rows:
        raise FormatError("the file is empty.", where=name, remedy=f"Give the columns {', '.join(COLUMNS[:2])}.")
    heading = [cell.strip() for cell in rows[0]]
    missing = [column for column in COLUMNS[:2] if column not in heading]
    if missing:
        raise FormatError(
            f"no column {' and '.join(missing)} in the first line.",
            where=name,
            remedy=f"Begin with the line {','.join(COLUMNS)}.",
        )
    at = [heading.index(column) for column in COLUMNS if column in heading]
    points = []
    for number, row in enumerate(rows[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        try:
            point = [float(row[k]) for k in at]
        except (ValueError, IndexError):
            raise FormatError(
                f"{','.join(row)[:40]!r} is not a row of numbers.",
                where=f"{name}, line {number}",
                remedy="Give a frequency and a level.",
            ) from None
        if not (0 < point[0] <= _HIGHEST_HZ and abs(point[1]) <= _LARGEST_DB):
            raise FormatError(
                f"{point[0]:g} Hz, {point[1]:g} dB can't be a response.",
                where=f"{name}, line {number}",
                remedy=f"Give Hz above 0 and dB within {_LARGEST_DB:g} of 0.",
            )
        points.append(point)
    if len(points) < 2:
        raise FormatError(f"{len(points)} points.", where=name, remedy="A response needs at least two.")
    table = np.array(points)
    try:
        return FrequencyResponse(
            frequency_hz=table[:, 0], level_db=table[:, 1], phase_deg=table[:, 2] if table.shape[1] > 2 else None
        )
    except InvalidValue as error:
        raise FormatError(error.problem, where=f"{name}, {error.where}", remedy=error.remedy) from error
