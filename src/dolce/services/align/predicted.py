"""What outputs will make of every channel at every spot, from the takes of one round alone."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import power_db
from dolce.core.job import Job
from dolce.core.response import ANALYSIS_GRID_HZ, average_over_spots
from dolce.core.tuning import Alignment, Outputs, SpotLevels, level_of, signal_paths_of, with_phases
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.services.align.bass_takes import bass_responses, summable
from dolce.services.context import Context
from dolce.store import UnitOfWork


def predicted_levels(
    context: Context,
    work: UnitOfWork,
    job: Job,
    outputs: Outputs,
    *,
    round_id: int,
    channels: Sequence[str],
    spots: Sequence[int],
) -> SpotLevels | None:
    """Levels over 1/12 octave on the analysis grid of what sounds when a channel is fed, or several alike at once.

    Where it reaches one output alone, its measured level changed by what that output gets. Where subs play its bass,
    or other outputs play it besides, the sum of all their responses up to 300 Hz; above 450 Hz the power sum of their
    levels, since nobody knows phases there that well.

    Returns
    -------
    SpotLevels or None
        At the spots where all that sounds was taken, and can be added up; None where there is none. `not_summed` says
        which spots are left out for that.
    """
    curves = context.curves.of(work, round_id)
    routes = [route for channel in channels for route in outputs.routes(channel)]
    reached = list(dict.fromkeys(route.output for route in routes))
    if any(output not in curves for output in reached) or not reached:
        return None
    wanted = [spot for spot in spots if all(spot in curves[output].spots.spots for output in reached)]
    if len(reached) > 1:
        missing = not_summed(work, round_id, reached, wanted)
        wanted = [spot for spot in wanted if spot not in missing]
    if not wanted:
        return None
    rate = job.rig.sample_rate_hz
    power, changes = np.zeros((len(wanted), ANALYSIS_GRID_HZ.size)), []
    for route in routes:
        levels = curves[route.output].spots
        rows = [levels.spots.index(spot) for spot in wanted]
        change = (
            route.level_db(ANALYSIS_GRID_HZ, sample_rate_hz=rate)
            + outputs.switches_db(route.output, ANALYSIS_GRID_HZ)
            + level_of(outputs.of_output(route.output), at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate)
        )
        changes.append(change)
        power += 10 ** ((levels.level_db[rows] + change) / 10)
    level: NDArray | None = power_db(power)
    if level is not None and len(reached) > 1:
        level = _with_bass(
            context,
            work,
            job,
            outputs,
            level,
            changes,
            round_id=round_id,
            channels=channels,
            reached=reached,
            spots=wanted,
        )
    return None if level is None else SpotLevels(spots=tuple(wanted), level_db=level)


def not_summed(
    work: UnitOfWork, round_id: int, outputs: Sequence[str], spots: Sequence[int]
) -> dict[int, tuple[str, ...]]:
    """Spots at which several outputs can't be added up, and of which outputs no usable take has a known arrival."""
    known = {(take.channel, take.spot_id) for take in summable(work, round_id, outputs)}
    absent = {spot: tuple(output for output in outputs if (output, spot) not in known) for spot in spots}
    return {spot: missing for spot, missing in absent.items() if missing}


def _with_bass(
    context: Context,
    work: UnitOfWork,
    job: Job,
    outputs: Outputs,
    level: NDArray,
    changes: list[NDArray],
    *,
    round_id: int,
    channels: Sequence[str],
    reached: list[str],
    spots: list[int],
) -> NDArray | None:
    responses = bass_responses(context.bass, work, job, round_id, reached, spots=spots)
    if set(responses.channels) != set(reached):
        return None
    parts = [part for channel in channels for part in signal_paths_of(outputs, responses, channel)]
    return with_phases(level, parts, responses, changes)


def subs_as_one(
    context: Context,
    work: UnitOfWork,
    job: Job,
    alignment: Alignment | None,
    *,
    round_id: int,
    curves: Mapping[str, ChannelCurves],
) -> Mapping[str, ChannelCurves]:
    """Curves of a round in which every sub of a group stands for all of them together, as they are aligned.

    Each is lower by its own trim, so that with it all are the same curve: one level and one correction for all.
    """
    if alignment is None or alignment.subs is None:
        return curves
    subs = [sub for sub in alignment.subs.settings if sub in curves]
    outputs = Outputs.of(alignment, None, job.channels, sample_rate_hz=job.rig.sample_rate_hz)
    together = sum_of_subs(context, work, job, outputs, subs, round_id=round_id, curves=curves)
    return (
        curves
        if together is None
        else {**curves, **{sub: together.changed(channel=sub, by_db=-alignment.settings(sub).trim_db) for sub in subs}}
    )


def sum_of_subs(
    context: Context,
    work: UnitOfWork,
    job: Job,
    outputs: Outputs,
    subs: Sequence[str],
    *,
    round_id: int,
    curves: Mapping[str, ChannelCurves],
) -> ChannelCurves | None:
    """All subs together as outputs play them, under the code of the first; None where too little was taken."""
    subs = [sub for sub in subs if sub in curves]
    levels = (
        predicted_levels(
            context,
            work,
            job,
            replace(outputs, bass=None),
            round_id=round_id,
            channels=subs,
            spots=[spot.id for spot in job.spots],
        )
        if subs
        else None
    )
    if levels is None:
        return None
    takes = {take.spot_id: take for take in curves[subs[0]].takes}
    return ChannelCurves(
        channel=subs[0],
        takes=tuple(takes[spot] for spot in levels.spots),
        level_db=levels.level_db,
        average=average_over_spots(levels.level_db),
    )
