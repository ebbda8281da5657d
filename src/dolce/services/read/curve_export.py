"""Levels of Read as a table."""

import csv
import io

from dolce.core.job import label_of
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.formats.csv_text import harmless
from dolce.services.read.reading import Chosen, ReadView


def curves_csv(view: ReadView) -> bytes:
    """Averages and single spots of all chosen channels on the analysis grid, dB as on Read, one column each.

    The first line names channel, round and what was averaged.
    """
    columns = [("frequency_hz", ANALYSIS_GRID_HZ)]
    for chosen in [view.chosen, *([view.against] if view.against else [])]:
        columns += _columns(view, chosen)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([harmless(name) for name, _ in columns])
    writer.writerows([f"{value:.4f}" for value in row] for row in zip(*(values for _, values in columns), strict=True))
    return out.getvalue().encode()


def _columns(view: ReadView, chosen: Chosen) -> list[tuple]:
    found = []
    for channel, curves in chosen.curves.items():
        offset = chosen.offsets_db[channel]
        found.append(
            (
                f"{label_of(channel)} {chosen.round.name} average of {len(curves.takes)} dB",
                curves.average.level_db + offset,
            )
        )
        found += [
            (f"{label_of(channel)} {chosen.round.name} {view.job.at_spot(take.spot_id)} dB", level + offset)
            for take, level in zip(curves.takes, curves.level_db, strict=True)
            if len(curves.takes) > 1
        ]
    return found
