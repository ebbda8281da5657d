"""The Prove stop: before, predicted and after at the same spots, with figures and a verdict."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

from dolce.core.alignment import Match, match_of
from dolce.core.cache import Cache
from dolce.core.job import Job, LogEntry, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.subs import SUBS
from dolce.core.tuning import (
    Alignment,
    Correction,
    Objection,
    Outputs,
    SpotLevels,
    level_weights,
    objections_to,
    spot_weights,
    wanted_levels_db,
)
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.core.tuning.channel_proof import (
    ChannelProof,
    RoundBeside,
    channel_proof,
    loaded_fronts_db,
    paired_differences,
    spots_matched_at,
)
from dolce.core.tuning.filter_curves import FilterCurves, filter_curves
from dolce.core.tuning.verdict import Needs
from dolce.services.align.predicted import predicted_levels, sum_of_subs
from dolce.services.align.readings import aligned_readings, moved_words
from dolce.services.context import Context
from dolce.services.prove.change_since import ChangeView, change_view
from dolce.services.prove.rounds import RoundTable, round_table
from dolce.services.read.round_curves import base_round, proving_round
from dolce.services.shape.present_correction import present_correction
from dolce.store import UnitOfWork

LOGBOOK_PAGE = 400
_KEPT = 4  # predictions of rounds, which follow from their takes and from what a processor held


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
    weights : of the spots that count
    rounds : all of the job
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
    needs: Needs
    absent: tuple[str, ...]
    spots: int
    spots_wanted: int
    against: tuple[Objection, ...]
    moved: tuple[str, ...]
    seat_id: int | None
    weights: Mapping[int, float]
    rounds: tuple[Round, ...]
    logbook: tuple[LogEntry, ...]

    def filter_curves(self, channel: str) -> FilterCurves | None:
        """What the filters of a proven channel did by themselves while the round after was taken."""
        if self.after_round is None or channel not in self.channels:
            return None
        settings = self.after_round.held.settings_for(self.channels[channel].channel)
        return filter_curves(settings, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=self.job.rig.sample_rate_hz)

    @property
    def passed(self) -> bool:
        return not self.needs and not self.against


class Proving:
    """Proof of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._kept: Cache[tuple, dict[str, SpotLevels]] = Cache(_KEPT)

    def view(self, job_id: int, *, seat_id: int | None = None) -> ProofView:
        """For the seat weighting of the present correction, or at one seat."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            before = base_round(work, job, kept=correction.round_id)
            after = proving_round(work, job)
            rounds = tuple(work.takes.rounds(job_id))
            curves_before = self._context.curves.of(work, before.id) if before else {}
            curves_after = self._context.curves.of(work, after.id) if after else {}
            stands_on, bass = correction.alignment or Alignment(), self._context.bass
            wanted = wanted_levels_db(job.channels, correction, at_hz=ANALYSIS_GRID_HZ)
            match_before = (
                match_of(
                    [
                        reading
                        for reading in aligned_readings(bass, work, job, before.id, stands_on)
                        if not reading.is_sub
                    ]
                )
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
            in_all = _subs_in_common_bass(after)
            merged_before, merged_after = (
                {channel: curves for channel, curves in merged.items() if channel not in in_all}
                for merged in (merged_before, merged_after)
            )
            moved = tuple(
                dict.fromkeys(
                    word for round_ in (before, after) if round_ for word in moved_words(work, job, round_.id)
                )
            )
            logbook = tuple(work.logbook.latest(job_id, count=LOGBOOK_PAGE))
        weights = spot_weights(job, correction.seat_weighting)
        if seat_id is not None:
            weights = {spot.id: 1.0 for spot in job.plan.spots_of(job.plan.seat(seat_id).id)}
        fronts_db = loaded_fronts_db(correction, after, merged_before, weights) if after else None
        channels = {}
        for name in (c for c in job.channels if c in merged_before and c in merged_after):
            if after is None:
                break
            found = channel_proof(
                job, correction, after, merged_before[name], merged_after[name], weights, predicted.get(name), fronts_db
            )
            if found is not None:
                channels[SUBS if name in group else name] = found
        absent = tuple(
            c for c in job.channels if c not in channels and c not in in_all and not (c in group and SUBS in channels)
        )
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
            weights=weights,
            rounds=rounds,
            moved=moved,
            logbook=logbook,
            against=()
            if needs
            else objections_to(
                {name: c.proof for name, c in channels.items()},
                match_after,
                matched_at=spots_matched_at(level_weights(job, over), merged_before, merged_after),
                pairs=paired_differences(merged_after, weights),
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
            held, settings={c: replace(settings, filters=(), convolution=None) for c, settings in held.settings.items()}
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
            {**{c: curves for c, curves in curves_before.items() if c not in others}, first: aligned},
            {**{c: curves for c, curves in curves_after.items() if c not in others}, first: taken},
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
        spots = [spot.id for spot in job.spots]
        key = (before.id, work.takes.newest(before.id), after.id, repr(correction.switches), *spots, channels)
        return self._kept.get_or(key, lambda: self._found(work, job, correction, before, after, channels))

    def _found(
        self, work: UnitOfWork, job: Job, correction: Correction, before: Round, after: Round, channels: tuple[str, ...]
    ) -> dict[str, SpotLevels]:
        outputs = replace(Outputs.held(after.held, job.channels), turned=correction.switches)
        spots = [spot.id for spot in job.spots]
        found = {
            channel: predicted_levels(
                self._context, work, job, outputs, round_id=before.id, channels=(channel,), spots=spots
            )
            for channel in channels
            if len(outputs.routes(channel)) > 1
        }
        return {channel: levels for channel, levels in found.items() if levels is not None}

    def beside(self, view: ProofView, channel: str, round_ids: Collection[int]) -> list[RoundBeside]:
        """Other rounds of a proven channel, in their order; without those that have none of its spots."""
        proof = view.channels[channel]
        shown = {each.id for each in (view.before_round, view.after_round) if each is not None}
        found = []
        with self._context.look() as work:
            for taken_in in work.takes.rounds(view.job.id):
                if taken_in.id not in round_ids or taken_in.id in shown:
                    continue
                curves = self._context.curves.of(work, taken_in.id).get(proof.channel)
                beside = None if curves is None else proof.beside_db(curves, taken_in, view.weights)
                if beside is not None:
                    found.append(beside)
        return found

    def drift(self, job_id: int, *, now: int | None = None, then: int | None = None) -> ChangeView:
        """What drifted between two rounds."""
        with self._context.look() as work:
            return change_view(self._context, work, work.jobs.get(job_id), now=now, then=then)

    def rounds(self, job_id: int) -> RoundTable:
        """Every round beside the others."""
        with self._context.look() as work:
            return round_table(self._context, work, work.jobs.get(job_id))

    def logbook(self, job_id: int, *, before: int) -> list[LogEntry]:
        """Earlier entries of the logbook, a page of them."""
        with self._context.look() as work:
            work.jobs.name(job_id)
            return work.logbook.latest(job_id, count=LOGBOOK_PAGE, before=before)


def _subs_in_common_bass(after: Round | None) -> tuple[str, ...]:
    """Subs that play the common bass in a round: every main channel's takes hold what they play, and prove it."""
    held = None if after is None or after.state is None or after.state.bypassed else after.state
    bass = held.presets[held.active].bass if held is not None else None
    return bass.subs if bass is not None and bass.common is not None else ()


def _needs(before: Round | None, shaped: bool, job: Job, after: Round | None, absent: tuple[str, ...]) -> Needs:
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
