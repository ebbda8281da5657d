"""Curves of a round: per spot, average and spread, at a chosen smoothing. Read, Shape and Prove use the same."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, Round, TakeRecord
from dolce.core.processor import BYPASS
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    SpotAverage,
    average_over_spots,
    level_on_grid,
    smoothed_level_db,
)
from dolce.store import UnitOfWork

SHAPING_PER_OCTAVE = 12.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelCurves:
    """Usable takes of one channel in one round with their levels on the analysis grid, shape (spots, points)."""

    channel: str
    takes: tuple[TakeRecord, ...]
    level_db: NDArray[np.float64]
    average: SpotAverage


def channel_curves(work: UnitOfWork, round_id: int, channel: str, *, per_octave: float | None,
                   spots: set[int] | None = None) -> ChannelCurves | None:
    """Curves of the usable takes (of some spots only, if given); None where there is none."""
    return curves_of([t for t in work.takes.latest(round_id) if t.channel == channel and t.usable
                      and (spots is None or t.spot_id in spots)], work, per_octave=per_octave)


def curves_of(takes: list[TakeRecord], work: UnitOfWork, *, per_octave: float | None) -> ChannelCurves | None:
    """The same from takes already at hand; unsmoothed curves need the responses themselves."""
    if not takes:
        return None
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

    def of(self, work: UnitOfWork, round_id: int, channels: tuple[str, ...]) -> dict[str, ChannelCurves]:
        """Curves of all channels that have usable takes in a round."""
        stamp = work.takes.newest(round_id)
        stamped, curves = self._kept.get(round_id, (None, {}))
        if stamp is None or stamped != stamp:
            curves = _shaping_curves(work, round_id, channels)
            if len(self._kept) > 8:
                self._kept.clear()
            self._kept[round_id] = (stamp, curves)
        return curves


def _shaping_curves(work: UnitOfWork, round_id: int, channels: tuple[str, ...]) -> dict[str, ChannelCurves]:
    latest = [t for t in work.takes.latest(round_id) if t.usable]
    found = {}
    for channel in channels:
        curves = curves_of([t for t in latest if t.channel == channel], work, per_octave=SHAPING_PER_OCTAVE)
        if curves is not None:
            found[channel] = curves
    return found


def untouched_round(work: UnitOfWork, job: Job) -> Round | None:
    """The latest round with takes that was made while the processor was bypassed: what corrections start from."""
    bypassed = [r for r in work.takes.rounds(job.id) if r.state is not None and r.state.active == BYPASS]
    with_takes = [r for r in bypassed if work.takes.has_any(r.id)]
    return with_takes[-1] if with_takes else None


def proving_round(work: UnitOfWork, job: Job) -> Round | None:
    """The latest round that was made through a preset with bands."""
    through = [r for r in work.takes.rounds(job.id) if r.state is not None and r.state.active != BYPASS
               and r.state.corrects]
    with_takes = [r for r in through if work.takes.has_any(r.id)]
    return with_takes[-1] if with_takes else None
