"""Curves of one channel on paper."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES
from dolce.core.subs import SUBS
from dolce.web.shared.level_frame import LevelFrame
from dolce.web.shared.plot_data import SUB_SHOWN_TO_HZ

FRAME = LevelFrame(width=340.0, height=120.0, left=30.0, bottom=14.0, range_db=(-25.0, 15.0))
X_TICKS = FRAME.x_ticks((50, 100, 200, 500, 1000, 2000, 5000, 10_000))
Y_TICKS = FRAME.y_ticks((10, 0, -10, -20), sign=True)


def path_of(level_db: NDArray, channel: str) -> str:
    """A curve on the analysis grid as the `d` of a path; that of a sub no further than subs play."""
    low, high = FRAME.range_hz
    inside = in_band(ANALYSIS_GRID_HZ, (low, SUB_SHOWN_TO_HZ if channel in (*SUB_CODES, SUBS) else high))
    return FRAME.path(ANALYSIS_GRID_HZ[inside], np.asarray(level_db)[inside])
