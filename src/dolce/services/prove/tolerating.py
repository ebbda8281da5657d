"""Whether a room holds tolerances: response, levels, arrivals, angles, decay, noise, and what can be told of each."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import Match
from dolce.core.cache import Cache
from dolce.core.job import Job, NoiseResult, Round, TakeRecord, result_of
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.rig import room_noise
from dolce.core.tolerance import (
    OWN,
    PUBLISHED,
    AskedFor,
    Figure,
    ToleranceSet,
    against_bound,
    asked_for,
    judged_angles,
    judged_arrival,
    judged_level,
    judged_response,
    judged_reverberation,
    judged_seats,
)
from dolce.core.tuning import Alignment, Correction, spot_weights, usual_seat_weighting
from dolce.core.uncertainty import AGAINST_BOUND
from dolce.errors import DolceError, InvalidValue, NotFound
from dolce.services.align.readings import seat_arrivals_of
from dolce.services.context import Context
from dolce.services.prove.match_levels import levels_at_spots
from dolce.services.prove.proving import Proving
from dolce.services.read.round_curves import proving_round
from dolce.services.read.take_details import decays_of
from dolce.store import UnitOfWork

_DECAYS, _KEPT = 6, 48  # takes from which decay is read; results that are kept
Decay = tuple[tuple[float, ...], tuple[float, ...]]  # bands in Hz, and T20 in s, NaN where none is told
_NOISE_OFF_NR = 2.0  # how far five seconds of a quiet room scatter (our estimate)


@dataclass(frozen=True, slots=True, kw_only=True)
class ToleranceView:
    """A set, and every figure against it.

    Attributes
    ----------
    round : the one that was judged; None where nothing was taken
    not_known : lines of which nothing is known, and why
    chosen : name of the set that the verdict on the job stands on
    asked_for : what lies outside as the target wants it
    """

    wanted: ToleranceSet
    names: tuple[str, ...]
    figures: tuple[Figure, ...]
    round: Round | None
    not_known: tuple[tuple[str, str], ...]
    chosen: str = ""
    asked_for: tuple[AskedFor, ...] = ()

    @property
    def verdict(self) -> str:
        """One plain sentence."""
        fails = [figure for figure in self.figures if figure.outcome == "fails"]
        unsure = [figure for figure in self.figures if figure.outcome == "inconclusive"]
        if not self.figures:
            return "Nothing can be judged yet."
        if fails:
            return f"{self.wanted.name} is not held: {len(fails)} of {len(self.figures)} figures lie outside."
        if unsure:
            return (
                f"Nothing speaks against {self.wanted.name}, but {len(unsure)} of {len(self.figures)} figures are "
                "inconclusive: closer to their bound than the measurement is certain."
            )
        return f"{self.wanted.name} is held by all {len(self.figures)} figures."

    @property
    def next_step(self) -> str:
        """What to do about it; empty where all holds."""
        fails = {figure.line for figure in self.figures if figure.outcome == "fails"}
        for line, text in (
            ("angles", "Move the loudspeakers that stand off their direction, on Room."),
            ("level", "Match levels again on Align."),
            ("arrival", "Set delays again on Align."),
            ("seats", "Search settings of the subs, or filters of a common bass, on Align: no equaliser mends that."),
            ("response", "Shape the channels that lie outside, or treat what the filters can't mend."),
            ("tilt", "Choose another slope for the target on Shape."),
            ("decay", "Change the damping of the room: no filter alters its decay."),
            ("noise", "Find what makes the noise."),
        ):
            if line in fails:
                return text
        return (
            "Take more spots: the average over them becomes more certain."
            if any(figure.outcome == "inconclusive" and figure.line in ("response", "tilt") for figure in self.figures)
            else ""
        )


class Tolerating:
    """Tolerances of one job, and the sets that are kept for all."""

    def __init__(self, context: Context, proving: Proving) -> None:
        self._context = context
        self._proving = proving
        self._decays: Cache[int, tuple[Decay | None]] = Cache(_KEPT)

    def sets(self) -> dict[str, ToleranceSet]:
        """Published ones, then those of the calibrator's own."""
        with self._context.look() as work:
            saved = {tolerance.name: tolerance for tolerance in work.tolerances.all()}
        return {**PUBLISHED, **(saved or {OWN.name: OWN})}

    def keep(self, wanted: ToleranceSet) -> None:
        """Keep a set of one's own; one of that name gives way.

        Raises
        ------
        InvalidValue
            Where a published one has that name.
        """
        if wanted.name in PUBLISHED:
            raise InvalidValue(
                "a published set has that name.", where="name of the tolerances", remedy="Choose another."
            )
        with self._context.change() as work:
            for old in work.tolerances.all():
                if old.name == wanted.name:
                    work.tolerances.delete(old.id, self._context.now())
            work.tolerances.add(wanted)

    def forget(self, number: int) -> None:
        """Take a set of one's own from the list."""
        with self._context.change() as work:
            work.tolerances.delete(number, self._context.now())

    def view(self, job_id: int, name: str = "") -> ToleranceView:
        """Every figure of the latest round against a set, the job's where none is named: of the round that was proven,
        else of the present one.
        """
        sets, chosen = self.sets(), self.chosen(job_id)
        wanted = sets.get(name) or chosen
        proof = self._proving.view(job_id)
        correction = proof.correction
        not_known: list[tuple[str, str]] = []
        to_target = wanted.about == "target"
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            present = proving_round(work, job) or next(
                (r for r in work.takes.rounds(job_id) if r.id == job.round_id), None
            )
            figures = [] if present is None else self._of_round(work, job, present, wanted, correction)
            within_s = wanted.reverberation_s
            if present is not None and within_s is not None:
                decay = self._decay(work, job, present, within_s)
                figures += [decay] if decay is not None else []
                if decay is None:
                    not_known.append(("decay", "no take of the main seat tells enough: take it louder, or in quiet"))
            noise = work.passes.latest(job_id, "noise")
            match, matched = (
                (proof.after_match, proof.after_round)
                if proof.after_match is not None
                else (proof.before_match, proof.before_round)
            )
            if matched is None or match is None:
                match = matched = None
            if wanted.level_db is not None and matched and match and match.level_db is not None:
                level = self._level(
                    work, job, matched, match, match.level_db, proof.correction.alignment, wanted.level_db
                )
                figures += [level] if level is not None else []
                if level is None:
                    not_known.append(("level", "no spot has takes of all channels: take what is missing"))
            if wanted.arrival_s is not None and matched and match and match.arrival_s is not None:
                arrivals = seat_arrivals_of(work, job, matched.id)
                error_s = arrivals.error_s(match.latest, match.earliest, share=AGAINST_BOUND)
                figures.append(
                    judged_arrival(match.latest, match.earliest, match.arrival_s, error_s, within_s=wanted.arrival_s)
                )
        if wanted.angles:
            figures += judged_angles(job.plan)
        if wanted.noise_nr is not None:
            rating = None
            quiet_dbfs = result_of(NoiseResult, noise).third_octave_dbfs
            if quiet_dbfs:
                rating = room_noise(np.array(quiet_dbfs), full_scale_spl_db=job.rig.levels.full_scale_spl_db).rating
            if rating is None:
                not_known.append(("noise", "listen to the quiet room on Rig, with a calibrated microphone"))
            else:
                figures.append(
                    Figure(
                        line="noise",
                        subject="room",
                        unit="NR",
                        value=rating[0],
                        error=_NOISE_OFF_NR,
                        low=None,
                        high=wanted.noise_nr,
                        at_hz=rating[1],
                        outcome=against_bound(rating[0], _NOISE_OFF_NR, high=wanted.noise_nr),
                    )
                )
        targets = (
            {}
            if to_target
            else {
                figure.subject: correction.target_db(figure.subject, ANALYSIS_GRID_HZ)
                for figure in figures
                if figure.at_hz
            }
        )
        return ToleranceView(
            wanted=wanted,
            names=tuple(sets),
            figures=tuple(figures),
            round=present,
            not_known=tuple(not_known),
            chosen=chosen.name,
            asked_for=asked_for(figures, targets, at_hz=ANALYSIS_GRID_HZ),
        )

    def chosen(self, job_id: int) -> ToleranceSet:
        """The set that the verdict on a job stands on: the one that was chosen, else the first."""
        sets = self.sets()
        with self._context.look() as work:
            name = work.reports.get(job_id).tolerances
        return sets.get(name) or next(iter(sets.values()))

    def choose(self, job_id: int, name: str) -> None:
        """From now on the verdict and the report stand on this set.

        Raises
        ------
        NotFound
            If there is no such set.
        """
        if name not in self.sets():
            raise NotFound(f"there is no set {name[:80]!r}.", where="tolerances", remedy="Choose one of the list.")
        with self._context.change() as work:
            work.reports.keep(job_id, replace(work.reports.get(job_id), tolerances=name))
            work.logbook.add(job_id, f"The room is held against {name}.", at=self._context.now())

    def _of_round(
        self, work: UnitOfWork, job: Job, present: Round, wanted: ToleranceSet, correction: Correction
    ) -> list[Figure]:
        weights = spot_weights(job, usual_seat_weighting(job))
        found: list[Figure] = []
        for channel, curves in self._context.curves.of(work, present.id).items():
            rows = [k for k, take in enumerate(curves.takes) if weights.get(take.spot_id, 0) > 0]
            if channel in job.channels and rows and not job.speaker(channel).is_sub:
                found += judged_response(
                    channel,
                    ANALYSIS_GRID_HZ,
                    curves.level_db[rows],
                    [weights[curves.takes[k].spot_id] for k in rows],
                    wanted,
                    target_db=correction.target_db(channel, ANALYSIS_GRID_HZ) if wanted.about == "target" else None,
                )
                at_seats = [k for k in rows if job.spot(curves.takes[k].spot_id).seat_id is not None]
                seats = (
                    judged_seats(
                        channel,
                        ANALYSIS_GRID_HZ,
                        curves.level_db[at_seats],
                        [weights[curves.takes[k].spot_id] for k in at_seats],
                        [job.spot(curves.takes[k].spot_id).seat_id for k in at_seats],
                        within_db=wanted.seats_db,
                    )
                    if wanted.seats_db is not None and at_seats
                    else None
                )
                found += [seats] if seats is not None else []
        return found

    def _level(
        self,
        work: UnitOfWork,
        job: Job,
        matched: Round,
        match: Match,
        level_db: float,
        alignment: Alignment | None,
        within_db: float,
    ) -> Figure | None:
        """The level between the two channels that differ most; None where main channels share no spot."""
        found = levels_at_spots(self._context, work, job, matched, alignment)
        return (
            None if found is None else judged_level(match.loudest, match.softest, level_db, *found, within_db=within_db)
        )

    def _decay(self, work: UnitOfWork, job: Job, present: Round, within_s: float) -> Figure | None:
        """From a few takes of the fronts at the main seat; each is read once."""
        found = self._decays_of_round(work, job, present)
        if not found:
            return None
        return judged_reverberation(
            found[0][0], [seconds for _, seconds in found], volume_m3=job.plan.size.volume_m3, within_s=within_s
        )

    def decay_times(self, job_id: int, rounds: Sequence[Round]) -> list[tuple[tuple[float, ...], NDArray]]:
        """Decay time by band of each round that tells it, seconds, NaN where a band doesn't: the mean of a few takes of
        the fronts at the main seat; with the middles of the bands in Hz.
        """
        found = []
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            for round_ in rounds:
                decays = self._decays_of_round(work, job, round_)
                if decays:
                    seconds = np.array([seconds for _, seconds in decays], dtype=float)
                    known = np.isfinite(seconds)
                    mean = np.where(known, seconds, 0).sum(axis=0) / np.maximum(known.sum(axis=0), 1)
                    found.append((decays[0][0], np.where(known.any(axis=0), mean, np.nan)))
        return found

    def _decays_of_round(self, work: UnitOfWork, job: Job, present: Round) -> list[Decay]:
        main = {spot.id for spot in job.main_spots}
        takes = [
            take
            for take in work.takes.latest(present.id)
            if take.spot_id in main and take.has_response and take.channel in ("L", "R", "C")
        ][:_DECAYS]
        return [decay for decay in (self.decay_of(work, take) for take in takes) if decay is not None]

    def decay_of(self, work: UnitOfWork, take: TakeRecord) -> Decay | None:
        """Decay of one take by band, read once; None where it can't tell any."""

        def read() -> tuple[Decay | None]:
            try:
                bands = decays_of(work, take)
            except DolceError:
                return (None,)
            times = [b["T20"] for b in bands]
            seconds = (float("nan") if t.seconds is None or t.why_not else t.seconds for t in times)
            return ((tuple(b.nominal_hz for b in bands), tuple(seconds)),)

        return self._decays.get_or(take.id, read)[0]
