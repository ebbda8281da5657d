"""Curves of a round: per spot, average and spread, at a chosen smoothing. Read, Align, Shape and Prove use the same."""

from collections.abc import Collection, Iterable

import numpy as np
from numpy.typing import NDArray

from dolce.core.cache import Cache
from dolce.core.job import Job, Round, TakeRecord, latest_corrected, proposed_base
from dolce.core.response import average_over_spots, smoothed_level_db
from dolce.core.tuning import SHAPING_PER_OCTAVE, SeatWeighting, spot_weights
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.store import UnitOfWork

_ROUNDS = 8


def curves_by_channel(
    takes: Iterable[TakeRecord], work: UnitOfWork, *, per_octave: float | NDArray | None
) -> dict[str, ChannelCurves]:
    """Curves of the usable ones of takes."""
    by_channel: dict[str, list[TakeRecord]] = {}
    for take in takes:
        if take.usable:
            by_channel.setdefault(take.channel, []).append(take)
    if per_octave is None:
        fine = work.takes.fine_levels([take.id for found in by_channel.values() for take in found])
        levels = {
            channel: np.array([fine.get(take.id, take.level_db) for take in found])  # a moving average has none
            for channel, found in by_channel.items()
        }
    else:
        levels = {
            channel: smoothed_level_db(np.array([take.level_db for take in found]), per_octave=per_octave)
            for channel, found in by_channel.items()
        }
    return {
        channel: ChannelCurves(
            channel=channel, takes=tuple(found), level_db=levels[channel], average=average_over_spots(levels[channel])
        )
        for channel, found in by_channel.items()
    }


class ShapingCurves:
    """Curves of rounds, smoothed as corrections are computed on; the last few are kept until a take is added."""

    def __init__(self) -> None:
        self._kept: Cache[tuple, dict[str, ChannelCurves]] = Cache(_ROUNDS)

    def of(self, work: UnitOfWork, round_id: int) -> dict[str, ChannelCurves]:
        """Curves of all channels that have usable takes in a round, at all their spots."""
        return self._kept.get_or(
            (round_id, work.takes.newest(round_id)),
            lambda: curves_by_channel(work.takes.latest(round_id), work, per_octave=SHAPING_PER_OCTAVE),
        )

    def averaged_over_seats(
        self, work: UnitOfWork, job: Job, round_id: int, seat_weighting: SeatWeighting
    ) -> dict[str, ChannelCurves]:
        """Curves of the job's channels averaged for a seat weighting, at the spots that the plan has for its seats."""
        weights = spot_weights(job, seat_weighting)
        kept = self.of(work, round_id)
        found = {channel: kept[channel].averaged_over_seats(weights) for channel in job.channels if channel in kept}
        return {channel: curves for channel, curves in found.items() if curves is not None}


def cells_by_round(work: UnitOfWork, job: Job, round_ids: Collection[int]) -> dict[int, int]:
    """How many cells of the board each of some rounds has taken."""
    return work.takes.cells(round_ids, channels=job.channels, spots=[spot.id for spot in job.spots])


def base_round(work: UnitOfWork, job: Job, *, kept: int | None) -> Round | None:
    """The round that was kept; where none was, the one that is proposed."""
    rounds = work.takes.rounds(job.id)
    chosen = next((r for r in rounds if r.id == kept), None)
    return chosen or proposed_base(rounds, cells_by_round(work, job, [r.id for r in rounds if r.bypassed]))


def proving_round(work: UnitOfWork, job: Job) -> Round | None:
    """The latest round with takes that was made through a preset that corrects."""
    rounds = work.takes.rounds(job.id)
    return latest_corrected(rounds, cells_by_round(work, job, [r.id for r in rounds if r.corrects]))
