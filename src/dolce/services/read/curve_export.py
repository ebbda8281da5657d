"""Levels of Read as a table."""

import csv
import io
from collections.abc import Iterable, Sequence

from dolce.core.job import label_of
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.formats.csv_text import harmless
from dolce.services.read.chosen import Chosen
from dolce.services.read.reading import ReadView


def curves_csv(view: ReadView) -> bytes:
    """Averages and single spots of all chosen channels on the analysis grid, dB as on Read, one column each.

    What else lies in the picture follows. The first line names job if another, channel, round, place and what was
    averaged.
    """
    columns = [("frequency_hz", ANALYSIS_GRID_HZ)]
    for channel in view.chosen.curves:
        columns += _columns(view, view.chosen, channel)
    for number, chosen, channel in view.picture:
        if number:
            columns += _columns(view, chosen, channel)
    return table_csv([name for name, _ in columns], zip(*(values for _, values in columns), strict=True))


def table_csv(head: Sequence[str], rows: Iterable[Sequence]) -> bytes:
    """A table with a first line: numbers to four digits, words that a spreadsheet would compute with made harmless."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([harmless(name) for name in head])
    writer.writerows([harmless(cell) if isinstance(cell, str) else f"{cell:.4f}" for cell in row] for row in rows)
    return out.getvalue().encode()


def _columns(view: ReadView, chosen: Chosen, channel: str) -> list[tuple]:
    curves, offset = chosen.curves[channel], chosen.offsets_db[channel]
    seat = next((seat.name for seat in chosen.job.plan.seats if seat.id == chosen.place.seat), "")
    name = " ".join(
        word
        for word in (chosen.job.name if chosen.job is not view.job else "", label_of(channel), chosen.round.name, seat)
        if word
    )
    spots = [
        (f"{name} {chosen.job.at_spot(take.spot_id)} dB", level + offset)
        for take, level in zip(curves.takes, curves.level_db, strict=True)
    ]
    if len(spots) == 1:
        return spots
    return [(f"{name} average of {len(spots)} dB", curves.average.level_db + offset), *spots]
