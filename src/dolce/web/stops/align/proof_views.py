"""A channel at a seat, as alignments will make it and as it was taken."""

import numpy as np

from dolce.core.dsp import in_band
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.services.align.aligned_proof import SeatCurves
from dolce.web.shared.plot_data import frequency_plot, range_around

_SHOWN = np.flatnonzero(in_band(ANALYSIS_GRID_HZ, (20, 20_000)))[::2]


def seat_curves_plot(found: SeatCurves, other: str) -> dict:
    """Before, predicted, another version by its name, and taken."""
    shown = [
        ("alone, before", "before", found.before_db),
        ("predicted", "predicted", found.predicted_db),
        (other, "target", found.other_db),
        ("taken", "after", found.taken_db),
    ]
    curves = [
        {"label": name, "channel": found.channel, "state": state, "note": "", "y": np.round(level[_SHOWN], 1).tolist()}
        for name, state, level in shown
        if level is not None
    ]
    everything = np.concatenate([level[_SHOWN] for _, _, level in shown if level is not None])
    x = np.round(ANALYSIS_GRID_HZ[_SHOWN], 1).tolist()
    return frequency_plot(x, curves, x_range=(20.0, 20_000.0), y_range=range_around(everything))
