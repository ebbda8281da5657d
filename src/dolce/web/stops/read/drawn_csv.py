"""Plots as a table: a row for every point that is drawn."""

from collections.abc import Iterator, Sequence

from dolce.services.read.curve_export import table_csv


def drawn_csv(plots: Sequence[tuple[str, dict]]) -> bytes:
    """The points of plots, each with its curve, where it lies and its value; units stand in the first line.

    Of maps a row has frequency, time and level. What is not known has no row.
    """
    first = plots[0][1] if plots else {"kind": "map"}
    if first["kind"] == "map":
        head = ["curve", "frequency_hz", "time_ms", "level_db"]
    else:
        across = "time_ms" if first["kind"] == "impulse" else "frequency_hz"
        head = ["curve", across, f"value, {first['unit']}"]
    return table_csv(head, ((name or label, *values) for name, plot in plots for label, *values in _points(plot)))


def _points(plot: dict) -> Iterator[tuple]:
    if plot["kind"] == "map":
        for at_ms, row in zip(plot["t"], plot["level"], strict=True):
            yield from ((plot["label"], at_hz, at_ms, level) for at_hz, level in zip(plot["x"], row, strict=True))
        return
    for curve in plot["curves"]:
        points = zip(curve.get("x", plot.get("x")), curve["y"], strict=True)
        yield from ((curve["label"], at, value) for at, value in points if value is not None)
