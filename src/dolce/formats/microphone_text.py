"""Calibration curves of microphones as plain columns of text: frequency, dB, perhaps phase."""

import re

import numpy as np

from dolce.core.response import MicrophoneCurve
from dolce.errors import FormatError, InvalidValue

_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?$")
_COMMENT = tuple('#*;"!/%')
_LARGEST_BYTES = 1_000_000


def read_microphone_curve(data: bytes, *, name: str) -> MicrophoneCurve:
    """Read frequency in Hz, level in dB and perhaps phase in degrees, one point a line.

    Comment lines (beginning with # * ; " ! / %) and lines of words before the first point are skipped. Columns are
    parted by blanks, tabs, semicolons or commas; a decimal comma is understood where the columns are parted by
    something else.

    Raises
    ------
    FormatError
        Naming the line: words between numbers, one column, fewer than two points, unsorted or repeated frequencies,
        values that are not finite or out of range.
    """
    if len(data) > _LARGEST_BYTES:
        raise FormatError(
            f"{len(data) // 1000} kB is too much for a curve.", where=name, remedy="Choose the microphone's text file."
        )
    text = data.decode("utf-8-sig", errors="replace").replace("\x00", "")
    decimal_comma = _uses_decimal_comma(text)
    rows: list[tuple[float, float, float]] = []
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if not stripped or stripped.startswith(_COMMENT):
            continue
        where = f"{name}, line {number}"
        fields = _fields(stripped, decimal_comma)
        if not fields:
            raise FormatError(
                f"no numbers: {stripped[:40]!r}.", where=where, remedy="Give a frequency and a level on each line."
            )
        if not _NUMBER.match(fields[0]) and fields[0].lower() not in ("nan", "inf", "-inf") and not rows:
            continue  # a heading
        if len(fields) < 2:
            raise FormatError(
                f"only one value: {stripped[:40]!r}.", where=where, remedy="Give a frequency and a level on each line."
            )
        rows.append(_row(fields, stripped, where))
        if len(rows) > 1 and rows[-1][0] <= rows[-2][0]:
            raise FormatError(
                f"{rows[-1][0]:g} Hz follows {rows[-2][0]:g} Hz.",
                where=where,
                remedy="Sort the points by frequency and drop repeats.",
            )
    if len(rows) < 2:
        raise FormatError(
            f"{len(rows)} {'point' if len(rows) == 1 else 'points'} found.",
            where=name,
            remedy="A curve needs at least two lines of frequency and level.",
        )
    table = np.array(rows)
    try:
        return MicrophoneCurve(frequency_hz=table[:, 0], level_db=table[:, 1], phase_deg=table[:, 2])
    except InvalidValue as error:
        raise FormatError(error.problem, where=name, remedy=error.remedy) from error


def _uses_decimal_comma(text: str) -> bool:
    """True where some line has a comma between digits and also another kind of separator, and no decimal point."""
    lines = [
        line.strip()
        for line in text.splitlines()
        if line.strip() and not line.strip().startswith(_COMMENT) and re.match(r"\s*[+-]?\d", line)
    ]
    with_comma = [line for line in lines if re.search(r"\d,\d", line)]
    return (
        bool(with_comma)
        and not any("." in line for line in lines)
        and all(re.search(r"[;\t ]", line) and not re.search(r",\s", line) for line in with_comma)
    )


def _fields(line: str, decimal_comma: bool) -> list[str]:
    if decimal_comma:
        return [part.replace(",", ".") for part in re.split(r"[;\s]+", line) if part]
    return [part for part in re.split(r"[;,\s]+", line) if part]


def _row(fields: list[str], line: str, where: str) -> tuple[float, float, float]:
    values: list[float] = []
    for field in fields[:3]:
        if field.lower() in ("nan", "inf", "+inf", "-inf") or not _NUMBER.match(field):
            if len(values) >= 2:
                break  # a remark behind the numbers
            raise FormatError(
                f"{field[:20]!r} is not a number, in {line[:40]!r}.",
                where=where,
                remedy="Give a frequency in Hz and a level in dB.",
            )
        values.append(float(field))
    frequency, level = values[0], values[1]
    phase = values[2] if len(values) > 2 else 0.0
    if not 0 < frequency < 1e6:
        raise FormatError(f"a frequency of {frequency:g} Hz.", where=where, remedy="Use Hz, above 0.")
    if abs(level) > 120 or abs(phase) > 36_000:
        raise FormatError(
            f"{level:g} dB, {phase:g} degrees is no microphone.", where=where, remedy="Check the columns."
        )
    return frequency, level, phase


def write_microphone_curve(curve: MicrophoneCurve, *, title: str) -> bytes:
    """The curve as text that `read_microphone_curve` reads back."""
    lines = [f"# {title}", "# frequency in Hz, level in dB, phase in degrees"]
    lines += [
        f"{f:.6g}\t{level:.6g}\t{phase:.6g}"
        for f, level, phase in zip(curve.frequency_hz, curve.level_db, curve.phase_deg, strict=True)
    ]
    return ("\n".join(lines) + "\n").encode()
