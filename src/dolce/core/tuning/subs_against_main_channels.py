"""All subs as a group against the main channels: the delay and polarity under which their crossovers add up best."""

from collections.abc import Mapping
from dataclasses import replace
from statistics import median

import numpy as np

from dolce.core.acoustics import speed_of_sound
from dolce.core.alignment import AlignmentTable
from dolce.core.job import Job
from dolce.core.subs import SubGroup, best_of
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.bass_sums import summation_losses_of
from dolce.core.tuning.composing import with_table
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import Responses
from dolce.core.tuning.readings import distances_m
from dolce.core.tuning.steps import delay_step_s, trim_step_db

GROUP_SHIFT_S = 0.015  # how far the subs as a group are moved against the main channels
_FAR_DB_PER_S = 30.0  # of two that add up alike the nearer one is taken


def subs_against_main_channels(
    job: Job, alignment: Alignment, table: AlignmentTable, responses: Responses, weights: Mapping[int, float]
) -> SubGroup | None:
    """The alignment's group of subs with its delay and polarity; None where it has no group.

    Over all seats that count and all channels, since one setting serves them all. Without a crossover, or where too
    little was taken, they arrive with the main channels by the plan.

    Parameters
    ----------
    responses : at `SUM_HZ`, NaN where a take is missing
    weights : how much each of their spots counts, in their order
    """
    group = alignment.subs
    if group is None:
        return None
    flight = {channel: far / speed_of_sound(job.room.temperature_c) for channel, far in distances_m(job).items()}
    main_channels = [channel for channel in job.channels if channel not in group.settings]
    subs_at = [flight[sub] + setting.delay_s for sub, setting in group.settings.items() if sub in flight]
    last = max((flight[channel] for channel in main_channels), default=0.0)
    by_plan = round(last - median(subs_at), 7) if subs_at else 0.0
    start = group.against_main_channels(delay_s=max(by_plan, -group.most_wait_s), polarity=1)
    if alignment.routing is None:
        return start
    aligned = with_table(
        replace(alignment, subs=start),
        table,
        delay_step_s=delay_step_s(job.limits, sample_rate_hz=job.rig.sample_rate_hz),
        trim_step_db=trim_step_db(job.limits),
    )
    managed = tuple(c for c in main_channels if alignment.routing.of(c) is not None and c in responses.channels)
    playing = [*managed, *(sub for sub in group.settings if sub in responses.channels)]
    rows = responses.complete(playing) if managed else np.zeros(0, dtype=np.int64)
    if not rows.size:
        return start
    losses = summation_losses_of(
        Outputs.of(aligned, None, job.channels, sample_rate_hz=job.rig.sample_rate_hz, device=job.limits),
        responses,
        managed,
        rows=rows,
        weights=np.array(list(weights.values()))[rows],
    )
    # What lies below 0 makes the main channels wait: by no more than they may, whatever the subs have among themselves.
    earliest = max(-GROUP_SHIFT_S, -group.most_wait_s - min(start.delay_of(sub) for sub in group.settings))
    best = best_of(losses, earliest, max(GROUP_SHIFT_S, earliest + GROUP_SHIFT_S), per_s_db=_FAR_DB_PER_S)
    return start.against_main_channels(delay_s=round(start.delay_s + best.delay_s, 7), polarity=best.polarity)
