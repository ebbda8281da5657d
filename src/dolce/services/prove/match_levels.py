"""Levels of all main channels at the same spots, as the round was taken: what a match of levels stands on."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import level_band_hz, mid_level_db
from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Alignment, level_weights
from dolce.services.context import Context
from dolce.store import UnitOfWork


def levels_at_spots(
    context: Context, work: UnitOfWork, job: Job, matched: Round, alignment: Alignment | None
) -> tuple[NDArray[np.float64], list[float]] | None:
    """Levels in dB, shape (channels, spots), and weights of the spots; None where the channels share no spot."""
    weights = level_weights(job, alignment.seat_weighting if alignment else None)
    curves = {
        name: of_channel
        for name, of_channel in context.curves.of(work, matched.id).items()
        if name in job.channels and not job.speaker(name).is_sub
    }
    shared = [set(of_channel.spots.spots) for of_channel in curves.values()]
    spots = tuple(s for s in weights if weights[s] > 0 and shared and all(s in spots for spots in shared))
    if not spots:
        return None
    band = level_band_hz(is_sub=False)
    levels = [
        [mid_level_db(ANALYSIS_GRID_HZ, row, band_hz=band) for row in of_channel.spots.at(spots)]
        for of_channel in curves.values()
    ]
    return np.array(levels), [weights[spot] for spot in spots]
