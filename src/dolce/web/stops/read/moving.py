"""A move of a loudspeaker on Read: what was typed, and the curve as it is and as it would be."""

from collections.abc import Sequence

import numpy as np

from dolce.core.dsp import in_band
from dolce.core.reading import TOLD_HZ
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.errors import InvalidValue
from dolce.services.read.moving import Move, MovingView
from dolce.web.shared.numbers import number_of
from dolce.web.shared.plot_data import fitting, frequency_plot

_SHOWN_HZ = (30.0, 500.0)


def move_of(typed: Sequence[str]) -> Move | None:
    """Centimetres to the right, to the back and up; None where nothing was typed."""
    if not any(typed):
        return None
    numbers = [number_of(text) if text else 0.0 for text in typed]
    for text, number in zip(typed, numbers, strict=True):
        if number is None:
            raise InvalidValue(f"{text[:20]!r} is not a number.", where="moving", remedy="Give centimetres.")
    x, y, z = (0.0 if number is None else number / 100 for number in numbers)
    return Move(x_m=x, y_m=y, z_m=z)


def moving_plot(view: MovingView) -> dict:
    """The average as taken, and as it would be."""
    inside = in_band(ANALYSIS_GRID_HZ, _SHOWN_HZ)
    shift = view.chosen.offsets_db[view.channel]
    curves = [
        {
            "label": label,
            "channel": view.channel,
            "state": state,
            "note": "",
            "y": np.round(level[inside] + shift, 1).tolist(),
        }
        for label, state, level in (
            ("as taken", "before", view.moved.now_db),
            ("moved, predicted", "predicted", view.moved.then_db),
        )
    ]
    return frequency_plot(
        np.round(ANALYSIS_GRID_HZ[inside], 1).tolist(),
        curves,
        x_range=_SHOWN_HZ,
        y_range=fitting([curve["y"] for curve in curves], None),
    ) | {"marks": [{"x": at, "label": ""} for at in TOLD_HZ]}
