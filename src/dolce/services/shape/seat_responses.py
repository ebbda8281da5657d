"""What a channel sounds like at the spots that count, before its correction: aligned, with what subs play of it."""

from dataclasses import replace

import numpy as np

from dolce.core.correction import low_frequency_extension_hz
from dolce.core.job import Job
from dolce.core.processor import BASS
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
    if len(alignment.routes(feed_of(alignment, channel), sample_rate_hz=rate)) > 1:
        # Where the sum can't be formed at any spot there is nothing to shape: its main speaker alone is another sound.
        return _summed(context, work, job, correction, round_id, channel, weights, before)
    curves = subs_as_one(context, work, job, alignment, round_id=round_id, curves=context.curves.of(work, round_id))
    whole = curves[channel].averaged_over_seats(weights) if channel in curves else None
    if whole is None:
        return None
    spots = tuple(take.spot_id for take in whole.takes)
    trim_db = settings_of(alignment, correction, channel, sample_rate_hz=rate, device=job.limits).trim_db
    switches_db = correction.switches_db(channel, ANALYSIS_GRID_HZ)
    close = [spot.id for spot in job.plan.close_spots(channel) if spot.id in curves[channel].spots.spots]
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


def feed_of(alignment: Alignment, channel: str) -> str:
    """What is fed to hear a channel as it plays: a sub plays its part of the common bass, where there is one."""
    routing = alignment.routing
    shared = alignment.common_bass is not None and routing is not None and channel in routing.subs
    return BASS if shared else channel


def unsummed(
    work: UnitOfWork, job: Job, correction: Correction, round_id: int, channel: str
) -> dict[int, tuple[str, ...]]:
    """Spots that count at which what plays a channel can't be added up, and which outputs lack a known arrival."""
    alignment = correction.alignment or Alignment()
    routes = alignment.routes(feed_of(alignment, channel), sample_rate_hz=job.rig.sample_rate_hz)
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
    feed = feed_of(alignment, channel)
    own = alignment.routing.subs if feed == BASS and alignment.routing is not None else (channel,)
    spots = [spot for spot, weight in weights.items() if weight > 0]

    def predicted(correction: Correction) -> SpotLevels | None:
        return predicted_levels(
            context,
            work,
            job,
            Outputs.of(alignment, correction, job.channels, sample_rate_hz=rate, device=job.limits),
            round_id=round_id,
            channels=(feed,),
            spots=spots,
        )

    after = predicted(correction)
    if after is not None and known is not None and len(known.level_db) == len(after.spots):
        return replace(known, corrected_db=after.level_db), after.spots
    without = replace(
        correction,
        bands={c: bands for c, bands in correction.bands.items() if c not in own},
        convolutions={c: convolution for c, convolution in correction.convolutions.items() if c not in own},
    )
    before = predicted(without)
    if before is None or after is None:
        return None
    counts = np.array([weights[spot] for spot in before.spots])
    seats = SeatResponses(
        level_db=before.level_db,
        weights=counts,
        seat_of=tuple(job.spot(spot).seat_id for spot in before.spots),
        corrected_db=after.level_db,
    )
    if feed == BASS:  # all that play it get the same correction
        return seats, before.spots
    power = np.zeros_like(before.level_db)
    for route in alignment.routes(feed, sample_rate_hz=rate):
        # What a main channel plays of the common bass is no matter of its own.
        if route.output == channel and not route.plays_bass:
            settings = replace(
                settings_of(alignment, without, route.output, sample_rate_hz=rate, device=job.limits),
                filters=(),
                convolution=None,
            )
            level = (
                context.curves.of(work, round_id)[route.output].spots.at(before.spots)
                + route.level_db(ANALYSIS_GRID_HZ, sample_rate_hz=rate)
                + level_of(settings, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate)
                + correction.switches_db(route.output, ANALYSIS_GRID_HZ)
            )
            power += 10 ** (level / 10)
    share = np.average(np.clip(power / 10 ** (before.level_db / 10), 0, 1), axis=0, weights=counts)
    if alignment.common_bass is not None:
        # Below the hand-over a band of an output is taken out again of the bass that it plays for all.
        share = np.where(alignment.common_bass.request.hand_over_hz < ANALYSIS_GRID_HZ, share, 0.0)
    return replace(seats, share=share), before.spots
