"""How far each headline of the proof may be off, and by what."""

import math
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.outcome import deviation_db
from dolce.core.dsp import energy_mean_db
from dolce.core.error_budget import ErrorBudget, arrival_budget, deviation_budget, level_budget
from dolce.core.filters import chain_level_db
from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import delay_step_s, gain_step_db, trim_step_db
from dolce.core.tuning.channel_proof import ChannelProof
from dolce.core.tuning.readings import distances_m
from dolce.core.uncertainty import jackknife_error, pooled_difference_error
from dolce.services.align.readings import seat_arrivals_of
from dolce.services.context import Context
from dolce.services.prove.match_levels import levels_at_spots
from dolce.services.prove.proving import ProofView, Proving


@dataclass(frozen=True, slots=True, kw_only=True)
class Headline:
    """A figure of the proof with its budget, both in dB or s; `spots` is how many it stands on."""

    kind: Literal["deviation", "level", "arrival"]
    channels: tuple[str, ...]
    value: float
    spots: int
    budget: ErrorBudget


class Budgets:
    """Error budgets of one job."""

    def __init__(self, context: Context, proving: Proving) -> None:
        self._context, self._proving = context, proving

    def of(self, job_id: int) -> tuple[Round | None, tuple[Headline, ...]]:
        """The round that proves, and its headlines; none before there is a proof."""
        view = self._proving.view(job_id)
        if view.after_round is None:
            return None, ()
        found = [_of_deviation(view, view.after_round, name, proof) for name, proof in view.channels.items()]
        return view.after_round, (*found, *self._of_match(view, view.after_round))

    def _of_match(self, view: ProofView, after: Round) -> list[Headline]:
        """Level and arrival of the channels that are furthest apart; nothing of what was not measured."""
        job, match, found = view.job, view.after_match, []
        if match is None:
            return []
        with self._context.look() as work:
            levels = levels_at_spots(self._context, work, job, after, view.correction.alignment)
            arrivals = seat_arrivals_of(work, job, after.id)
        if match.level_db is not None and levels is not None:
            spots = levels[0].shape[1]
            # How a sub differs from spot to spot is not told by the main channels.
            ends = (match.loudest, match.softest)
            alike = all(name in job.channels and not job.speaker(name).is_sub for name in ends)
            budget = level_budget(
                weights=levels[1],
                spots_error_db=pooled_difference_error(*levels) if alike else math.inf,
                trim_step_db=trim_step_db(job.limits),
            )
            found.append(Headline(kind="level", channels=ends, value=match.level_db, spots=spots, budget=budget))
        channels = (match.latest, match.earliest)
        if match.arrival_s is not None and all(channel in arrivals.late_s for channel in channels):
            spots, far = arrivals.late_s[match.latest].size, distances_m(job)
            budget = arrival_budget(
                [far[channel] for channel in channels],
                spots=spots,
                spots_error_s=arrivals.error_s(*channels),
                delay_step_s=delay_step_s(job.limits, sample_rate_hz=job.rig.sample_rate_hz),
                temperature_c=job.room.temperature_c,
            )
            found.append(Headline(kind="arrival", channels=channels, value=match.arrival_s, spots=spots, budget=budget))
        return found


def _of_deviation(view: ProofView, after: Round, name: str, shown: ChannelProof) -> Headline:
    job, spots = view.job, shown.proof.spots
    weights = [view.weights[spot] for spot in spots]

    def deviation(rows: NDArray) -> float:
        level_db = energy_mean_db(shown.after_spots_db[rows], weights=[weights[k] for k in rows])
        return deviation_db(ANALYSIS_GRID_HZ, level_db, shown.target_db, band_hz=shown.judged_hz)

    microphones = job.rig.microphones
    return Headline(
        kind="deviation",
        channels=(name,),
        value=shown.proof.outcome.after_range_db,
        spots=len(spots),
        budget=deviation_budget(
            ANALYSIS_GRID_HZ,
            shown.proof.after_db,
            shown.target_db,
            band_hz=shown.judged_hz,
            weights=weights,
            spots_error_db=float(jackknife_error(deviation, weights)),
            temperature_c=job.room.temperature_c,
            calibrated=bool(microphones) and all(used.curve(job.rig.pointing)[0] is not None for used in microphones),
            steps_db=_half_steps_db(job, after, shown.channel),
        ),
    )


def _half_steps_db(job: Job, after: Round, channel: str) -> NDArray[np.float64]:
    """What half a step of each band's gain does, shape (bands, points)."""
    half, rate = gain_step_db(job.limits) / 2, job.rig.sample_rate_hz
    rows = [
        chain_level_db([replace(band, gain_db=half)], at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate)
        for band in after.held.settings_for(channel).filters
        if band.kind != "all-pass"
    ]
    return np.array(rows).reshape(-1, ANALYSIS_GRID_HZ.size)
