"""One line for each of the eight stops: what is done and what is missing."""

from dataclasses import dataclass
from typing import Literal

from dolce.core.job import Job, PassRecord, Round
from dolce.core.rig import POINTINGS, microphone_findings
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round, proving_round
from dolce.services.rig.rigging import moved_on
from dolce.store import UnitOfWork

Fill = Literal["hollow", "half", "full"]
_MICROPHONE = {"none": "no microphone", "no curve": "no curve yet", "wrong angle": "wrong curve",
               "not asked": "pointing not said", "one input twice": "one input twice",
               "not compared": "not compared"}
STOPS = ("room", "rig", "takes", "read", "align", "shape", "load", "prove")


@dataclass(frozen=True, slots=True, kw_only=True)
class StopLine:
    """How far a stop is, and in words."""

    stop: str
    fill: Fill
    line: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class JobStatus:
    """What the header of every page of a job shows."""

    job: Job
    round: Round
    stops: tuple[StopLine, ...]
    running: PassRecord | None
    microphone: str
    microphone_fits: bool


class Progress:
    """The state of a job at a glance."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def status(self, job_id: int) -> JobStatus:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            rounds = work.takes.rounds(job_id)
            present = next(r for r in rounds if r.id == job.round_id)
            taken, any_take = _taken(work, job, present), work.takes.has_any(present.id)
            alignment, correction = work.alignments.current(job_id), work.corrections.current(job_id)
            kept = correction.round_id if correction else alignment.round_id if alignment else None
            before, after = base_round(work, job, kept=kept), proving_round(work, job)
            level = work.passes.latest(job_id, "level")
            proven = _taken(work, job, after) if after else 0
            running = work.passes.running()
        wanted = len(job.channels) * len(job.spots)
        bands = {c: len(b) for c, b in correction.bands.items()} if correction else {}
        loaded = sorted(slot for slot, preset in job.processor.presets.items() if preset.ours)
        stale = moved_on(job.rig, level)
        checked = level is not None and level.state == "done" and not stale
        wrong = microphone_findings(job.rig.microphones, job.rig.pointing)
        lines = (
            ("full" if job.spots else "half", f"{job.plan.layout}, {len(job.spots)} spots"),
            ("full" if checked and not wrong else "half" if checked or job.rig.microphones else "hollow",
             _MICROPHONE[wrong[0].kind] if wrong else "level checked" if checked
             else "check level again" if stale else "level not checked"),
            ("full" if taken == wanted else "half" if taken else "hollow", f"{taken} of {wanted} takes"),
            ("full" if before else "hollow", f"round {present.name}" if any_take else "nothing to read"),
            ("full" if alignment else "half" if before else "hollow",
             "chosen" if alignment else "proposal ready" if before else "needs takes"),
            ("full" if any(bands.values()) else "half" if before else "hollow",
             f"{max(bands.values())} bands" if any(bands.values()) else "no filters yet" if before else "needs takes"),
            ("full" if loaded else "half" if any(bands.values()) else "hollow",
             f"preset {' and '.join(loaded)}" if loaded else "nothing loaded"),
            ("full" if proven == wanted else "half" if proven else "hollow",
             f"{proven} of {wanted} takes" if proven else "not yet"),
        )
        stops = tuple(StopLine(stop=stop, fill=fill, line=line)
                      for stop, (fill, line) in zip(STOPS, lines, strict=True))
        return JobStatus(job=job, round=present, stops=stops, running=running, microphone=_microphone(job),
                         microphone_fits=not wrong)


def _taken(work: UnitOfWork, job: Job, of: Round) -> int:
    """How many cells of a round's board are done."""
    return work.takes.usable_count(of.id, channels=job.channels, spots=[spot.id for spot in job.spots])


def _microphone(job: Job) -> str:
    """Microphone, pointing and curve in a few words, for the header of every stop."""
    if not job.rig.microphones:
        return "no microphone chosen"
    _, angle = job.rig.microphones[0].curve(job.rig.pointing)
    more = f" and {len(job.rig.microphones) - 1} more" if len(job.rig.microphones) > 1 else ""
    curve = "no curve" if angle is None else f"{angle}° curve"
    where = POINTINGS[job.rig.pointing][0] if job.rig.pointing else "pointing not said"
    return f"Mic{more} {where}, {curve}"
