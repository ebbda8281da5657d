"""Trims that make up for what filters change where channels are matched."""

from collections.abc import Sequence
from dataclasses import replace

from numpy.typing import ArrayLike, NDArray

from dolce.core.alignment import level_band_hz, mid_level_db
from dolce.core.dsp import energy_mean_db
from dolce.core.filters import chain_level_db
from dolce.core.job import Job
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Correction, convolved_db, level_weights, levelled_again, trim_step_db, wanted_rise_db
from dolce.services.align.predicted import subs_as_one
from dolce.services.context import Context
from dolce.store import UnitOfWork


def levelled(context: Context, work: UnitOfWork, job: Job, correction: Correction) -> Correction:
    """The correction with trims that make up for what its bands change where channels are matched."""
    if correction.alignment is None or correction.round_id is None:
        return replace(correction, trims_db={})
    weights = level_weights(job, correction.alignment.seat_weighting)
    alone = context.curves.of(work, correction.round_id)
    curves = subs_as_one(context, work, job, correction.alignment, round_id=correction.round_id, curves=alone)
    change = {}
    for speaker in job.speakers:
        at_seat = curves[speaker.channel].averaged_over_seats(weights) if speaker.channel in curves else None
        if at_seat is not None and speaker.channel in correction.alignment.channels:
            # As finely as takes are kept: sharp bands on a steep response change less than its smoothed curve says.
            plays_alone = curves[speaker.channel] is alone.get(speaker.channel)
            change[speaker.channel] = _level_change_db(
                [take.level_db for take in at_seat.takes] if plays_alone else at_seat.level_db,
                [weights[take.spot_id] for take in at_seat.takes],
                _change_db(correction, speaker.channel, job),
                is_sub=speaker.is_sub,
            ) - wanted_rise_db(speaker.channel, correction, at_hz=ANALYSIS_GRID_HZ)
    return replace(correction, trims_db=levelled_again(change, step_db=trim_step_db(job.limits)))


def _change_db(correction: Correction, channel: str, job: Job) -> NDArray:
    """What filters of a channel do to its level, on the analysis grid."""
    return chain_level_db(
        correction.filters(channel), at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=job.rig.sample_rate_hz
    ) + convolved_db(correction.convolutions.get(channel), ANALYSIS_GRID_HZ)


def _level_change_db(level_db: ArrayLike, weights: Sequence[float], change_db: NDArray, *, is_sub: bool) -> float:
    """What filters change of a channel's level in the band where it is matched; levels of shape (spots, points)."""
    level = energy_mean_db(level_db, weights=weights)
    band = level_band_hz(is_sub=is_sub)
    return mid_level_db(ANALYSIS_GRID_HZ, level + change_db, band_hz=band) - mid_level_db(
        ANALYSIS_GRID_HZ, level, band_hz=band
    )
