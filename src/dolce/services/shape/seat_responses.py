"""What a channel sounds like at the spots that count, before its correction: aligned, with what subs play of it."""

from dataclasses import replace

import numpy as np

from dolce.core.correction import low_frequency_extension_hz
from dolce.core.dsp import power_db
from dolce.core.job import Job
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES
from dolce.core.tuning import (
    Alignment,
    Correction,
    Outputs,
    SeatResponses,
    SpotLevels,
    level_of,
    settings_of,
    spot_weights,
)
from dolce.services.align.predicted import not_summed, predicted_levels, subs_as_one
from dolce.services.context import Context
from dolce.store import UnitOfWork


def shaped_channels(context: Context, work: UnitOfWork, job: Job, correction: Correction, round_id: int) -> list[str]:
    """Channels that have a usable take at a spot that counts, in the order of the job."""
    curves, weights = context.curves.of(work, round_id), spot_weights(job, correction.seat_weighting)
    return [
        channel
        for channel in job.channels
        if channel in curves and any(weights.get(take.spot_id, 0) > 0 for take in curves[channel].takes)
    ]


def heard_of(
    context: Context,
    work: UnitOfWork,
    job: Job,
    correction: Correction,
    round_id: int,
    channel: str,
    *,
    before: SeatResponses | None = None,
) -> tuple[SeatResponses, tuple[int, ...]] | None:
    """A channel and the ids of its spots; None where there is none.

    `before` is what was heard of it with other filters of its own, where that is known.

    Subs that are one stand for all of them. Of a channel whose bass subs play, what counts is the sum with their
    corrections in it; only what its own output plays of it can be changed here.
    """
    alignment, rate = correction.alignment or Alignment(), job.rig.sample_rate_hz
    weights = spot_weights(job, correction.seat_weighting)
    if len(alignment.routes(channel, sample_rate_hz=rate)) > 1:
        # Where the sum can't be formed at any spot there is nothing to shape: its main speaker alone is another sound.
        return _summed(context, work, job, correction, round_id, channel, weights, before)
    curves = subs_as_one(context, work, job, alignment, round_id=round_id, curves=context.curves.of(work, round_id))
    whole = curves[channel].averaged_over_seats(weights) if channel in curves else None
    if whole is None:
        return None
    spots = tuple(take.spot_id for take in whole.takes)
    trim_db = settings_of(alignment, correction, channel, sample_rate_hz=rate, device=job.limits).trim_db
    switches_db = correction.switches_db(channel, ANALYSIS_GRID_HZ)
    close = [spot.id for spot in job.spots if spot.close_to == channel and spot.id in curves[channel].spots.spots]
    end = (
        low_frequency_extension_hz(
            ANALYSIS_GRID_HZ, curves[channel].spots.at(tuple(close))[0], close=True, is_sub=channel in SUB_CODES
        )
        if close
        else None
    )
    seats = SeatResponses.of(
        whole.level_db + trim_db + switches_db,
        [weights[spot] for spot in spots],
        seat_of=[job.spot(spot).seat_id for spot in spots],
    )
    return replace(seats, extension_hz=end), spots


def unsummed(
    work: UnitOfWork, job: Job, correction: Correction, round_id: int, channel: str
) -> dict[int, tuple[str, ...]]:
    """Spots that count at which what plays a channel can't be added up, and which outputs lack a known arrival."""
    routes = (correction.alignment or Alignment()).routes(channel, sample_rate_hz=job.rig.sample_rate_hz)
    outputs = tuple(dict.fromkeys(route.output for route in routes))
    spots = [spot for spot, weight in spot_weights(job, correction.seat_weighting).items() if weight > 0]
    return not_summed(work, round_id, outputs, spots) if len(outputs) > 1 else {}


def _summed(
    context: Context,
    work: UnitOfWork,
    job: Job,
    correction: Correction,
    round_id: int,
    channel: str,
    weights: dict[int, float],
    known: SeatResponses | None,
) -> tuple[SeatResponses, tuple[int, ...]] | None:
    alignment, rate = correction.alignment or Alignment(), job.rig.sample_rate_hz
    spots = [spot for spot, weight in weights.items() if weight > 0]

    def predicted(correction: Correction) -> SpotLevels | None:
        return predicted_levels(
            context,
            work,
            job,
            Outputs.of(alignment, correction, job.channels, sample_rate_hz=rate, device=job.limits),
            round_id=round_id,
            channels=(channel,),
            spots=spots,
        )

    after = predicted(correction)
    if after is not None and known is not None and len(known.level_db) == len(after.spots):
        return replace(known, corrected_db=after.level_db), after.spots
    without = replace(
        correction,
        bands={c: bands for c, bands in correction.bands.items() if c != channel},
        convolutions={c: convolution for c, convolution in correction.convolutions.items() if c != channel},
    )
    before = predicted(without)
    if before is None or after is None:
        return None
    settings = replace(
        settings_of(alignment, without, channel, sample_rate_hz=rate, device=job.limits), filters=(), convolution=None
    )
    levels = (
        context.curves.of(work, round_id)[channel].spots.at(before.spots)
        + level_of(settings, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate)
        + correction.switches_db(channel, ANALYSIS_GRID_HZ)
    )
    ways_db = [
        route.level_db(ANALYSIS_GRID_HZ, sample_rate_hz=rate)
        for route in alignment.routes(channel, sample_rate_hz=rate)
        if route.output == channel
    ]
    levels = levels + power_db(np.sum(10 ** (np.array(ways_db) / 10), axis=0))
    counts = np.array([weights[spot] for spot in before.spots])
    share = np.average(np.clip(10 ** ((levels - before.level_db) / 10), 0, 1), axis=0, weights=counts)
    return SeatResponses(
        level_db=before.level_db,
        weights=counts,
        seat_of=tuple(job.spot(spot).seat_id for spot in before.spots),
        share=share,
        corrected_db=after.level_db,
    ), before.spots
