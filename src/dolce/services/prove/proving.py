"""The Prove stop: before, predicted and after at the same spots, with figures and a verdict."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import Match, PairDifference, match_of, pair_differences
from dolce.core.correction import low_frequency_extension_hz
from dolce.core.dsp import energy_mean_db
from dolce.core.job import Job, LogEntry, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES, partner_of
from dolce.core.subs import JOINED_OCTAVES, SUBS
from dolce.core.tuning import (
    Alignment,
    Correction,
    Outputs,
    Proof,
    SpotLevels,
    Verdict,
    fronts_level_db,
    judged_range_hz,
    level_of,
    prove,
    target_level_db,
    verdicts_on,
    wanted_levels_db,
)
from dolce.services.align.predicted import predicted_levels, sum_of_subs
from dolce.services.align.readings import aligned_readings, level_weights, moved_words
from dolce.services.context import Context
from dolce.services.prove.change_since import DriftView, drift_view
from dolce.services.prove.rounds import RoundTable, round_table
from dolce.services.read.round_curves import ChannelCurves, base_round, proving_round, spot_weights
from dolce.services.shape.shaping import present_correction
from dolce.store import UnitOfWork

LOGBOOK_PAGE = 400


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelProof:
    """The proof of one channel, its curves relative to its target's level, and its target, shape (points,).

    `judged_hz` is the range of its deviations. `after_spots_db` are the spots one by one, shape (spots, points);
    `crossover_hz` is where subs take over, None without.
    """

    channel: str
    proof: Proof
    target_db: NDArray[np.float64]
    after_spots_db: NDArray[np.float64]
    judged_hz: tuple[float, float]
    crossover_hz: float | None = None

    @property
    def whole_range(self) -> bool:
        """Whether it plays the whole range, so that a deviation over all of it means something."""
        return self.channel not in SUB_CODES

    @property
    def around_crossover_db(self) -> float | None:
        """What was measured against what was predicted, mean over an octave to both sides of the crossover."""
        if self.crossover_hz is None:
            return None
        near = np.abs(np.log2(ANALYSIS_GRID_HZ / self.crossover_hz)) <= JOINED_OCTAVES
        return float(np.mean((self.proof.after_db - self.proof.predicted_db)[near]))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ProofView:
    """All of the Prove stop.

    Attributes
    ----------
    needs : what is missing: "takes", "shape", "load", "round" or ""
    seat_id : the seat at which everything is looked at; None for the seat weighting that the correction is for
    absent : channels that were not taken in the round after, at any spot that counts
    spots, spots_wanted : at how many spots the channels are compared, the fewest; and how many count
    against : what speaks against the proof
    moved : what stood at several places while a round was taken, in words
    """

    job: Job
    correction: Correction
    before_round: Round | None
    after_round: Round | None
    channels: dict[str, ChannelProof]
    before_match: Match | None
    after_match: Match | None
    cut_db: float
    needs: str
    absent: tuple[str, ...]
    spots: int
    spots_wanted: int
    against: tuple[Verdict, ...]
    moved: tuple[str, ...]
    seat_id: int | None
    logbook: tuple[LogEntry, ...]

    @property
    def passed(self) -> bool:
        return not self.needs and not self.against


class Proving:
    """Proof of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int, *, seat_id: int | None = None) -> ProofView:
        """For the seat weighting of the present correction, or at one seat."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            before = base_round(work, job, kept=correction.round_id)
            after = proving_round(work, job)
            curves_before = self._context.curves.of(work, before.id) if before else {}
            curves_after = self._context.curves.of(work, after.id) if after else {}
            stands_on, bass = correction.alignment or Alignment(), self._context.bass
            wanted = wanted_levels_db(job.channels, correction, at_hz=ANALYSIS_GRID_HZ)
            match_before = (
                match_of([one for one in aligned_readings(bass, work, job, before.id, stands_on) if not one.is_sub])
                if before
                else None
            )
            match_after = (
                match_of(
                    aligned_readings(
                        bass, work, job, after.id, stands_on, wanted_db=wanted, since=before.id if before else None
                    )
                )
                if after
                else None
            )
            over = stands_on.seat_weighting
            predicted = self._predicted(work, job, correction, before, after, tuple(curves_before))
            merged_before, merged_after, group = self._with_subs_as_one(
                work, job, stands_on, before, after, curves_before, curves_after
            )
            moved = tuple(
                dict.fromkeys(word for one in (before, after) if one for word in moved_words(work, job, one.id))
            )
            logbook = tuple(work.logbook.latest(job_id, count=LOGBOOK_PAGE))
        weights = spot_weights(job, correction.seat_weighting)
        if seat_id is not None:
            weights = {spot.id: 1.0 for spot in job.plan.spots_of(job.plan.seat(seat_id).id)}
        fronts_db = _fronts_db(correction, after, merged_before, weights) if after else None
        channels = {}
        for name in (c for c in job.channels if c in merged_before and c in merged_after):
            if after is None:
                break
            found = _proof(
                job, correction, after, merged_before[name], merged_after[name], weights, predicted.get(name), fronts_db
            )
            if found is not None:
                channels[SUBS if name in group else name] = found
        absent = tuple(c for c in job.channels if c not in channels and not (c in group and SUBS in channels))
        needs = _needs(before, correction.found, job, after, absent)
        return ProofView(
            job=job,
            correction=correction,
            before_round=before,
            after_round=after,
            channels=channels,
            before_match=match_before,
            after_match=match_after,
            cut_db=after.held.cut_db if after else 0.0,
            needs=needs,
            absent=absent,
            spots=min((len(c.proof.spots) for c in channels.values()), default=0),
            spots_wanted=len(weights),
            seat_id=seat_id,
            moved=moved,
            logbook=logbook,
            against=()
            if needs
            else verdicts_on(
                {name: c.proof for name, c in channels.items()},
                match_after,
                matched_at=_matched_at(level_weights(job, over), merged_before, merged_after),
                pairs=_pairs(merged_after, weights),
            ),
        )

    def _with_subs_as_one(
        self,
        work: UnitOfWork,
        job: Job,
        alignment: Alignment,
        before: Round | None,
        after: Round | None,
        curves_before: Mapping[str, ChannelCurves],
        curves_after: Mapping[str, ChannelCurves],
    ) -> tuple[Mapping[str, ChannelCurves], Mapping[str, ChannelCurves], tuple[str, ...]]:
        """Curves of both rounds in which the first sub stands for all that are one; and which these are."""
        if alignment.subs is None or before is None or after is None or after.state is None:
            return curves_before, curves_after, ()
        subs = tuple(sub for sub in alignment.subs.settings if sub in curves_before and sub in curves_after)
        held = Outputs.held(after.state, job.channels)
        plain = replace(
            held, settings={c: replace(one, filters=(), convolution=None) for c, one in held.settings.items()}
        )
        aligned = sum_of_subs(self._context, work, job, plain, subs, round_id=before.id, curves=curves_before)
        taken = sum_of_subs(
            self._context, work, job, Outputs(settings={}), subs, round_id=after.id, curves=curves_after
        )
        if aligned is None or taken is None:
            return curves_before, curves_after, ()
        first, others = subs[0], subs[1:]
        aligned = aligned.changed(channel=first, by_db=-held.of_output(first).trim_db)
        return (
            {**{c: one for c, one in curves_before.items() if c not in others}, first: aligned},
            {**{c: one for c, one in curves_after.items() if c not in others}, first: taken},
            subs,
        )

    def _predicted(
        self,
        work: UnitOfWork,
        job: Job,
        correction: Correction,
        before: Round | None,
        after: Round | None,
        channels: tuple[str, ...],
    ) -> dict[str, SpotLevels]:
        """Channels whose bass subs play, as what the processor held will have made of the takes before."""
        if before is None or after is None or after.state is None:
            return {}
        outputs = replace(Outputs.held(after.state, job.channels), turned=correction.switches)
        spots = [spot.id for spot in job.spots]
        found = {
            channel: predicted_levels(
                self._context, work, job, outputs, round_id=before.id, channels=(channel,), spots=spots
            )
            for channel in channels
            if len(outputs.routes(channel)) > 1
        }
        return {channel: levels for channel, levels in found.items() if levels is not None}

    def drift(self, job_id: int, *, now: int | None = None, then: int | None = None) -> DriftView:
        """What drifted between two rounds."""
        with self._context.look() as work:
            return drift_view(self._context, work, work.jobs.get(job_id), now=now, then=then)

    def rounds(self, job_id: int) -> RoundTable:
        """Every round beside the others."""
        with self._context.look() as work:
            return round_table(self._context, work, work.jobs.get(job_id))

    def logbook(self, job_id: int, *, before: int) -> list[LogEntry]:
        """Earlier entries of the logbook, a page of them."""
        with self._context.look() as work:
            work.jobs.name(job_id)
            return work.logbook.latest(job_id, count=LOGBOOK_PAGE, before=before)


def _pairs(curves: Mapping[str, ChannelCurves], weights: Mapping[int, float]) -> list[PairDifference]:
    """Left and right of each kind against each other, at the spots that both have."""
    names = list(curves)
    found = []
    for place, name in enumerate(names):
        partner = partner_of(name)
        if partner not in names[place:]:
            continue
        one, other = curves[name].spots, curves[partner].spots
        spots = tuple(spot for spot in one.spots if spot in other.spots and weights.get(spot, 0) > 0)
        if spots:
            found += pair_differences(
                ANALYSIS_GRID_HZ, {name: one.at(spots), partner: other.at(spots)}, [weights[spot] for spot in spots]
            )
    return found


def _matched_at(
    weights: dict[int, float], before: Mapping[str, ChannelCurves], after: Mapping[str, ChannelCurves]
) -> int:
    """At how many spots the levels of every channel are known in both rounds."""
    return min(
        (len(set(weights) & set(before[c].spots.spots) & set(after[c].spots.spots)) for c in before if c in after),
        default=0,
    )


def _proof(
    job: Job,
    correction: Correction,
    after_round: Round,
    before: ChannelCurves,
    after: ChannelCurves,
    weights: dict[int, float],
    summed: SpotLevels | None,
    fronts_db: float | None,
) -> ChannelProof | None:
    """Everything relative to the target's level; the common cut for headroom is taken out of what was measured.

    Predicted is what was there before through what the processor held while the round after was taken; `summed` where
    several outputs play the channel.
    """
    held = after_round.held
    grid, settings, cut_db = ANALYSIS_GRID_HZ, held.settings_for(before.channel), held.cut_db
    target = correction.target_db(before.channel, grid)
    whole = before.averaged_over_seats(weights)
    if whole is None:
        return None
    trim_db, turned_db = settings.trim_db + cut_db, correction.turned_db(before.channel, grid)
    level = target_level_db(
        before.channel,
        whole.average.level_db + trim_db + turned_db,
        target,
        at_hz=grid,
        correction=correction,
        fronts_db=fronts_db,
    )
    change = level_of(settings, at_hz=grid, sample_rate_hz=job.rig.sample_rate_hz) - settings.trim_db + turned_db
    start = SpotLevels(spots=before.spots.spots, level_db=before.level_db + trim_db - level)
    # What sounds in the channel before its filters: over the same range as on Shape.
    heard = whole.average.level_db if summed is None else energy_mean_db(summed.level_db)
    judged = judged_range_hz(
        correction.limits_for(before.channel),
        low_frequency_extension_hz(grid, heard, is_sub=before.channel in SUB_CODES),
    )
    predicted = (
        SpotLevels(spots=start.spots, level_db=start.level_db + change)
        if summed is None
        else SpotLevels(spots=summed.spots, level_db=summed.level_db + cut_db - level)
    )
    found = prove(
        grid,
        start,
        predicted,
        SpotLevels(spots=after.spots.spots, level_db=after.level_db + cut_db - level),
        weights=weights,
        target_db=target,
        range_hz=judged,
    )
    if found is None:
        return None
    crossover = held.crossover_of(before.channel)
    shown = SpotLevels(spots=after.spots.spots, level_db=after.level_db + cut_db - level)
    return ChannelProof(
        channel=before.channel,
        proof=found,
        target_db=target,
        after_spots_db=shown.at(found.spots),
        crossover_hz=crossover.frequency_hz if crossover is not None else None,
        judged_hz=judged,
    )


def _fronts_db(
    correction: Correction, after: Round, before: Mapping[str, ChannelCurves], weights: dict[int, float]
) -> float | None:
    """Level of the fronts as they were loaded, where targets are hung by that."""
    found = {}
    for name, curves in before.items():
        whole = curves.averaged_over_seats(weights) if correction.anchor == "fronts" else None
        if whole is not None:
            raised = after.held.settings_for(name).trim_db + after.held.cut_db
            found[name] = whole.average.level_db + raised + correction.turned_db(name, ANALYSIS_GRID_HZ)
    return fronts_level_db(found, correction, at_hz=ANALYSIS_GRID_HZ)


def _needs(before: Round | None, shaped: bool, job: Job, after: Round | None, absent: tuple[str, ...]) -> str:
    """The first thing that is missing, or nothing."""
    if before is None:
        return "takes"
    if not shaped:
        return "shape"
    if not any(preset.ours and preset.corrects for preset in job.processor.presets.values()):
        return "load"
    if after is None or absent:
        return "round"
    return ""
