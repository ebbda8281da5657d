"""Small curves of takes for the board: computed once per take, however often the board is looked at."""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import mid_level_db
from dolce.core.job import TakeRecord
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db

_EVERY = 14                      # points of the analysis grid
_MOST = 8000
SKETCH_HZ = ANALYSIS_GRID_HZ[(ANALYSIS_GRID_HZ >= 20) & (ANALYSIS_GRID_HZ <= 20_000)][::_EVERY]
_INSIDE = (ANALYSIS_GRID_HZ >= 20) & (ANALYSIS_GRID_HZ <= 20_000)


class Sketches:
    """Levels at SKETCH_HZ over 1/12 octave, in dB around the middle of each, by number of the take."""

    def __init__(self) -> None:
        self._kept: dict[int, NDArray[np.float64]] = {}

    def of(self, takes: Iterable[TakeRecord]) -> dict[int, NDArray[np.float64]]:
        """Sketches of takes; those that are new are computed together."""
        wanted = [take for take in takes if not take.damaged]
        fresh = [take for take in wanted if take.id not in self._kept]
        if fresh:
            if len(self._kept) > _MOST:
                self._kept.clear()
                fresh = wanted
            levels = smoothed_level_db(np.array([take.level_db for take in fresh]), per_octave=12)
            for take, level in zip(fresh, levels, strict=True):
                middle = mid_level_db(ANALYSIS_GRID_HZ, take.level_db)
                self._kept[take.id] = level[_INSIDE][::_EVERY] - middle
        return {take.id: self._kept[take.id] for take in wanted}
