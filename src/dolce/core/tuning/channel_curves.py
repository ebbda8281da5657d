"""Levels of the takes of one channel, their average, and what a weighting of seats makes of them."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import TakeRecord
from dolce.core.response import SpotAverage, average_over_spots
from dolce.core.tuning.proof import SpotLevels


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelCurves:
    """Usable takes of one channel in one round with their levels on the analysis grid, shape (spots, points)."""

    channel: str
    takes: tuple[TakeRecord, ...]
    level_db: NDArray[np.float64]
    average: SpotAverage

    @property
    def spots(self) -> SpotLevels:
        """Levels by spot."""
        return SpotLevels(spots=tuple(take.spot_id for take in self.takes), level_db=self.level_db)

    def changed(self, *, channel: str, by_db: float) -> "ChannelCurves":
        """The same under another code, louder by so much."""
        levels = self.level_db + by_db
        return replace(self, channel=channel, level_db=levels, average=average_over_spots(levels))

    def at(self, spots: Collection[int]) -> "ChannelCurves | None":
        """The takes at some spots, all alike; None where there is none."""
        if all(take.spot_id in spots for take in self.takes):
            return self
        return self.averaged_over_seats(dict.fromkeys(spots, 1.0))

    def averaged_over_seats(self, weights: Mapping[int, float]) -> "ChannelCurves | None":
        """The takes at spots that count, averaged by their weights; None where there is none."""
        rows = [k for k, take in enumerate(self.takes) if weights.get(take.spot_id, 0) > 0]
        if not rows:
            return None
        levels = self.level_db[rows]
        return replace(
            self,
            takes=tuple(self.takes[k] for k in rows),
            level_db=levels,
            average=average_over_spots(levels, weights=[weights[self.takes[k].spot_id] for k in rows]),
        )
