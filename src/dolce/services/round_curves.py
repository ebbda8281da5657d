"""Curves of a round: per spot, average and spread, at a chosen smoothing. Read, Align, Shape and Prove use the same."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, Round, TakeRecord, latest_corrected, proposed_base
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    SpotAverage,
    average_over_spots,
    level_on_grid,
    smoothed_level_db,
)
from dolce.core.tuning import Blend, SpotLevels, blends_of
from dolce.store import UnitOfWork

SHAPING_PER_OCTAVE = 12.0


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

    def blended(self, weights: Mapping[int, float]) -> "ChannelCurves | None":
        """The takes at spots that count, averaged by their weights; None where there is none."""
        rows = [k for k, take in enumerate(self.takes) if weights.get(take.spot_id, 0) > 0]
        if not rows:
            return None
        levels = self.level_db[rows]
        return replace(self, takes=tuple(self.takes[k] for k in rows), level_db=levels, average=average_over_spots(
            levels, weights=[weights[self.takes[k].spot_id] for k in rows]))


def curves_of(takes: list[TakeRecord], work: UnitOfWork, *, per_octave: float | None) -> ChannelCurves:
    """Curves of takes of one channel; unsmoothed ones need the responses themselves."""
    if per_octave is None:
        levels = np.array([t.level_db if t.source == "moving" else
                           level_on_grid(work.takes.response(t.id), at_hz=ANALYSIS_GRID_HZ, per_octave=None)
                           for t in takes])
    else:
        levels = smoothed_level_db(np.array([t.level_db for t in takes]), per_octave=per_octave)
    return ChannelCurves(channel=takes[0].channel, takes=tuple(takes), level_db=levels,
                         average=average_over_spots(levels))


class ShapingCurves:
    """Curves of rounds, smoothed as corrections are computed on; the last few are kept until a take is added."""

    def __init__(self) -> None:
        self._kept: dict[int, tuple[object, dict[str, ChannelCurves]]] = {}

    def of(self, work: UnitOfWork, round_id: int) -> dict[str, ChannelCurves]:
        """Curves of all channels that have usable takes in a round, at all their spots."""
        stamp = work.takes.newest(round_id)
        stamped, curves = self._kept.get(round_id, (None, {}))
        if stamp is None or stamped != stamp:
            curves = _shaping_curves(work, round_id)
            if len(self._kept) > 8:
                self._kept.clear()
            self._kept[round_id] = (stamp, curves)
        return curves

    def blended(self, work: UnitOfWork, job: Job, round_id: int, blend: Blend) -> dict[str, ChannelCurves]:
        """Curves of the job's channels averaged for a blend, at the spots that the plan has for its seats."""
        weights = spot_weights(job, blend)
        kept = self.of(work, round_id)
        found = {channel: kept[channel].blended(weights) for channel in job.channels if channel in kept}
        return {channel: curves for channel, curves in found.items() if curves is not None}


def _shaping_curves(work: UnitOfWork, round_id: int) -> dict[str, ChannelCurves]:
    by_channel: dict[str, list[TakeRecord]] = {}
    for take in work.takes.latest(round_id):
        if take.usable:
            by_channel.setdefault(take.channel, []).append(take)
    return {channel: curves_of(takes, work, per_octave=SHAPING_PER_OCTAVE) for channel, takes in by_channel.items()}


def spot_weights(job: Job, blend: Blend) -> dict[int, float]:
    """Weight of every spot that counts in a blend, by id."""
    return blend.spot_weights({spot.id: spot.seat_id for spot in job.spots})


def main_seat_weights(job: Job) -> dict[int, float]:
    """The spots of the main seat, all alike."""
    return {spot.id: 1.0 for spot in job.main_spots}


def usual_blend(job: Job) -> Blend:
    """The blend to begin with: all seats by their weights."""
    return blends_of(job.plan)[0]


def cells_by_round(work: UnitOfWork, job: Job) -> dict[int, int]:
    """How many cells of the board each round has taken."""
    return work.takes.cells(job.id, channels=job.channels, spots=[spot.id for spot in job.spots])


def base_round(work: UnitOfWork, job: Job, *, kept: int | None) -> Round | None:
    """The round that was kept; where none was, the one that is proposed."""
    rounds = work.takes.rounds(job.id)
    chosen = next((r for r in rounds if r.id == kept), None)
    return chosen or proposed_base(rounds, cells_by_round(work, job))


def proving_round(work: UnitOfWork, job: Job) -> Round | None:
    """The latest round with takes that was made through a preset that corrects."""
    return latest_corrected(work.takes.rounds(job.id), cells_by_round(work, job))
