"""What outputs will make of every channel at every spot, from the takes of one round alone."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job
from dolce.core.levels import power_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.subs import smoothing
from dolce.core.tuning import SUM_HZ, Outputs, SpotLevels, level_of, ways_of
from dolce.services.align.bass_takes import bass_responses
from dolce.services.context import Context
from dolce.store import UnitOfWork

_UP_TO_HZ, _OVER_HZ = 300.0, 450.0        # by sums of responses up to here; in between both, then by levels alone
_BASS = (ANALYSIS_GRID_HZ > 18.0) & (ANALYSIS_GRID_HZ < _OVER_HZ)
_SMOOTH = smoothing(SUM_HZ, ANALYSIS_GRID_HZ[_BASS])


def predicted_levels(context: Context, work: UnitOfWork, job: Job, outputs: Outputs, *, round_id: int, channel: str,
                     spots: Sequence[int]) -> SpotLevels | None:
    """Levels over 1/12 octave on the analysis grid of what sounds when a channel is fed.

    Where it reaches one output alone, its measured level changed by what that output gets. Where subs play its bass,
    or other outputs play it besides, the sum of all their responses up to 300 Hz; above 450 Hz the power sum of their
    levels, since nobody knows phases there that well.

    Returns
    -------
    SpotLevels or None
        At the spots where all that sounds was taken; None where there is none.
    """
    curves = context.curves.of(work, round_id)
    reached = list(dict.fromkeys(way.output for way in outputs.routes(channel)))
    if any(output not in curves for output in reached) or not reached:
        return None
    wanted = [spot for spot in spots if all(spot in curves[output].spots.spots for output in reached)]
    if not wanted:
        return None
    rate = job.rig.sample_rate_hz
    power = np.zeros((len(wanted), ANALYSIS_GRID_HZ.size))
    for way in outputs.routes(channel):
        own = curves[way.output].spots
        rows = [own.spots.index(spot) for spot in wanted]
        change = way.gain_db + level_of(outputs.of_output(way.output), at_hz=ANALYSIS_GRID_HZ,
                                        sample_rate_hz=rate)
        if way.crossover is not None:
            change = change + way.crossover.level_db(way.side, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate)
        power += 10 ** ((own.level_db[rows] + change) / 10)
    level = power_db(power)
    if len(reached) > 1:
        level = _with_bass(context, work, job, outputs, level, round_id=round_id, channel=channel, reached=reached,
                           spots=wanted)
        if level is None:
            return None
    return SpotLevels(spots=tuple(wanted), level_db=level)


def _with_bass(context: Context, work: UnitOfWork, job: Job, outputs: Outputs, level: NDArray, *, round_id: int,
               channel: str, reached: list[str], spots: list[int]) -> NDArray | None:
    responses = bass_responses(context.bass, work, job, round_id, reached, spots=spots)
    if set(responses.channels) != set(reached):
        return None
    ways = ways_of(outputs, responses, channel)
    parts = np.array(list(ways.values()))
    # Only what phases change is taken from here: levels, and how they are smoothed, are those of the curves.
    together = power_db(np.abs(parts.sum(axis=0)) ** 2 @ _SMOOTH) - power_db((np.abs(parts) ** 2).sum(axis=0) @ _SMOOTH)
    if np.isnan(together).any():
        return None
    at = ANALYSIS_GRID_HZ[_BASS]
    share = np.clip(np.log(_OVER_HZ / at) / np.log(_OVER_HZ / _UP_TO_HZ), 0, 1)      # of the sums
    joined = level.copy()
    joined[:, _BASS] += share * together
    return joined
