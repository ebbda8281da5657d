"""The Prove stop: before, predicted and after, with figures and a plain verdict."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import Outcome, judge
from dolce.core.correction.outcome import ARRIVAL_WITHIN_S, LEVEL_WITHIN_DB, PREDICTED_WITHIN_DB
from dolce.core.job import Job, LogEntry, Round
from dolce.core.processor import ChannelSettings
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.services.aligning import readings_of
from dolce.services.context import Context
from dolce.services.round_curves import ChannelCurves, proving_round, untouched_round
from dolce.services.shaping import shape_or_default, target_level_db


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelProof:
    """Curves of one channel relative to its target's level, shape (points,), and its figures."""

    channel: str
    before_db: NDArray[np.float64]
    predicted_db: NDArray[np.float64]
    after_db: NDArray[np.float64]
    target_db: NDArray[np.float64]
    spots: int
    outcome: Outcome


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """How far the channels differ at the main seat."""

    level_db: float
    arrival_s: float | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ProofView:
    """All of the Prove stop. `needs` says what is missing; `verdict` is plain words."""

    job: Job
    before_round: Round | None
    after_round: Round | None
    channels: dict[str, ChannelProof]
    before_match: Match | None
    after_match: Match | None
    range_hz: tuple[float, float]
    cut_db: float
    needs: str
    verdict: str
    passed: bool
    logbook: tuple[LogEntry, ...]


class Proving:
    """Proof of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> ProofView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            shape = shape_or_default(work, job_id)
            before, after = untouched_round(work, job), proving_round(work, job)
            curves_before = self._context.curves.of(work, before.id, job.channels) if before else {}
            curves_after = self._context.curves.of(work, after.id, job.channels) if after else {}
            match_before = _match(readings_of(work, job, before.id)) if before else None
            match_after = _match(readings_of(work, job, after.id)) if after else None
            logbook = tuple(work.logbook.all(job_id))
        channels = {}
        cut = after.state.cut_db if after else 0.0
        for name in (c for c in job.channels if c in curves_before and c in curves_after):
            settings = after.state.settings_for(name)
            channels[name] = self._proof(job, shape, curves_before[name], curves_after[name],
                                         trim_db=settings.trim_db + cut, cut_db=cut, settings=settings)
        needs = _needs(before is not None, bool(shape.bands), job, after, channels)
        verdict, passed = _verdict(channels, match_after) if not needs else ("", False)
        return ProofView(job=job, before_round=before, after_round=after, channels=channels,
                         before_match=match_before, after_match=match_after,
                         range_hz=(shape.limits.from_hz, shape.limits.to_hz), cut_db=cut, needs=needs,
                         verdict=verdict, passed=passed, logbook=logbook)

    @staticmethod
    def _proof(job: Job, shape, before: ChannelCurves, after: ChannelCurves, *, trim_db: float, cut_db: float,
               settings: ChannelSettings) -> ChannelProof:
        """Everything relative to the target's level; the common cut for headroom is taken out of `after`.

        Prediction: the untouched curves at the same spots, with the trim and the bands or convolution that were loaded.
        """
        grid = ANALYSIS_GRID_HZ
        target = shape.target.level_db(grid)
        level = target_level_db(before, trim_db, target, shape)
        start = before.average.level_db + trim_db - level
        predicted = start + settings.correction_level_db(grid, sample_rate_hz=job.rig.sample_rate_hz)
        measured = after.average.level_db + cut_db - level
        limits = shape.limits_for(before.channel)
        outcome = judge(grid, before_db=start, predicted_db=predicted, after_db=measured, target_db=target,
                        range_hz=(limits.from_hz, limits.to_hz))
        return ChannelProof(channel=before.channel, before_db=start, predicted_db=predicted, after_db=measured,
                            target_db=target, spots=len(after.takes), outcome=outcome)


def _match(readings) -> Match | None:
    if len(readings) < 2:
        return None
    levels = [r.level_db for r in readings]
    arrivals = [r.arrival_s for r in readings]
    known = None not in arrivals
    return Match(level_db=max(levels) - min(levels), arrival_s=max(arrivals) - min(arrivals) if known else None)


def _needs(taken: bool, shaped: bool, job: Job, after: Round | None, channels: dict[str, ChannelProof]) -> str:
    """The first thing that is missing, or nothing."""
    if not taken:
        return "takes"
    if not shaped:
        return "shape"
    if not any(preset.ours and preset.corrects for preset in job.processor.presets.values()):
        return "load"
    if after is None or len(channels) < len(job.channels):
        return "round"
    return ""


def _verdict(channels: dict[str, ChannelProof], match: Match | None) -> tuple[str, bool]:
    """One or two plain sentences, and whether everything held."""
    said, passed = [], True
    for name, proof in channels.items():
        o = proof.outcome
        if not o.kept_its_promise:
            said.append(f"{name} measures {o.predicted_against_measured_db:.1f} dB away from its prediction, more than "
                        f"{PREDICTED_WITHIN_DB} dB: was anything moved or switched in between?")
            passed = False
        if not o.improved:
            said.append(f"{name} is no closer to the target than before.")
            passed = False
    if match is not None and match.level_db > LEVEL_WITHIN_DB:
        said.append(f"Levels still differ by {match.level_db:.1f} dB.")
        passed = False
    if match is not None and match.arrival_s is not None and match.arrival_s > ARRIVAL_WITHIN_S:
        said.append(f"Arrivals still differ by {match.arrival_s * 1000:.2f} ms.")
        passed = False
    if passed:
        said.append("The correction does what was predicted, and every channel is closer to the target.")
    return " ".join(said), passed
