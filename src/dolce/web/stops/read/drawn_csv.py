"""Plots as a table: a row for every point that is drawn."""

import csv
import io
from collections.abc import Iterator, Sequence

from dolce.formats.csv_text import harmless


def drawn_csv(plots: Sequence[tuple[str, dict]]) -> bytes:
    """The points of plots, each with its curve, where it lies and its value; units stand in the first line.

    Of maps a row has frequency, time and level. What is not known has no row.
    """
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    first = plots[0][1] if plots else {"kind": "map"}
    if first["kind"] == "map":
        writer.writerow(["curve", "frequency_hz", "time_ms", "level_db"])
    else:
        across = "time_ms" if first["kind"] == "impulse" else "frequency_hz"
        writer.writerow(["curve", across, f"value, {first['unit']}"])
    for name, plot in plots:
        writer.writerows([harmless(name or label), *values] for label, *values in _points(plot))
    return out.getvalue().encode()


def _points(plot: dict) -> Iterator[tuple]:
    if plot["kind"] == "map":
        for at_ms, row in zip(plot["t"], plot["level"], strict=True):
            yield from ((plot["label"], at_hz, at_ms, level) for at_hz, level in zip(plot["x"], row, strict=True))
        return
    for curve in plot["curves"]:
        points = zip(curve.get("x", plot.get("x")), curve["y"], strict=True)
        yield from ((curve["label"], at, value) for at, value in points if value is not None)
