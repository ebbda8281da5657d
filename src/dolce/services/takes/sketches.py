"""Small curves of takes for the board: computed once per take, however often the board is looked at."""

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import level_band_hz, mid_level_db
from dolce.core.cache import Cache
from dolce.core.dsp import in_band
from dolce.core.job import TakeRecord, bass_alone
from dolce.core.response import ANALYSIS_GRID_HZ, SUB_TOP_HZ, smoothed_level_db

_EVERY, _EVERY_OF_SUBS = 24, 9  # points of the analysis grid
_MOST = 8000
_SUB_UP_DB = 6.0
_DRAWN = np.flatnonzero(in_band(ANALYSIS_GRID_HZ, (20, 20_000)))[::_EVERY]
_DRAWN_OF_SUBS = np.flatnonzero(in_band(ANALYSIS_GRID_HZ, (20, SUB_TOP_HZ)))[::_EVERY_OF_SUBS]


class Sketches:
    """Levels over 1/12 octave in dB around the middle of each, 20 Hz to 20 kHz (subs: to 250 Hz), by number of take."""

    def __init__(self) -> None:
        self._kept: Cache[int, NDArray[np.float64]] = Cache(_MOST)

    def of(self, takes: Iterable[TakeRecord]) -> dict[int, NDArray[np.float64]]:
        """Sketches of takes; those that are new are computed together."""
        wanted = [take for take in takes if not take.damaged]
        found = {take.id: known for take in wanted if (known := self._kept.get(take.id)) is not None}
        fresh = [take for take in wanted if take.id not in found]
        if fresh:
            levels = smoothed_level_db(np.array([take.level_db for take in fresh]), per_octave=12)
            for take, level in zip(fresh, levels, strict=True):
                is_sub = bass_alone(take.channel)
                middle = mid_level_db(ANALYSIS_GRID_HZ, take.level_db, band_hz=level_band_hz(is_sub=is_sub))
                # A sub's curve falls off at its upper end: drawn higher up, it has room for that.
                found[take.id] = level[_DRAWN_OF_SUBS] - middle + _SUB_UP_DB if is_sub else level[_DRAWN] - middle
                self._kept.add(take.id, found[take.id])
        return found
