"""Two sounds that should be alike, drawn by 1/3 octave."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import PAIR_DB, TWIN_HZ, Twins
from dolce.services.prove.twins import TwinView
from dolce.web.shared.plot_data import fitting, frequency_plot

TWIN_MS = 0.3  # a band that arrives so much apart is told (our own; the direct sound's width at 1 kHz)


def twin_plots(view: TwinView) -> tuple[dict, dict]:
    """Level and arrival, before thin and after thick, between the bounds."""
    return (
        _plot(view, lambda found: found.level_db, PAIR_DB, "dB", 8.0, 2.0),
        _plot(view, lambda found: 1000 * found.later_s, TWIN_MS, "ms", 1.0, 0.5),
    )


def outside(found: Twins | None) -> list[tuple[float, float]]:
    """Bands whose levels lie further apart than the bound: frequency and dB."""
    if found is None:
        return []
    return [(float(hz), float(db)) for hz, db in zip(TWIN_HZ, found.level_db, strict=True) if abs(db) > PAIR_DB]


def _plot(
    view: TwinView, value: Callable[[Twins], NDArray], bound: float, unit: str, least: float, step: float
) -> dict:
    x = np.round(TWIN_HZ, 1).tolist()
    curves: list[dict] = [
        {
            "label": state,
            "channel": view.channel,
            "state": state,
            "note": "",
            "points": state == "after",
            "y": [None if np.isnan(v) else round(float(v), 2) for v in value(found)],
        }
        for state, found in (("before", view.before), ("after", view.after))
        if found is not None
    ]
    ends = [x[0], x[-1]]
    bounds: list[dict] = [
        {"label": "", "channel": view.channel, "state": "target", "note": "", "quiet": True, "x": ends, "y": [y, y]}
        for y in (bound, -bound)
    ]
    scale = fitting([c["y"] for c in (*curves, *bounds)], None, step=step, least=least)
    most = max(abs(end) for end in scale)
    return frequency_plot(x, [*curves, *bounds], x_range=(ends[0], ends[1]), y_range=(-most, most), unit=unit)
