"""One line for each of the eight stops: what is done and what is missing."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from dolce.core.job import Job, PassRecord, Round
from dolce.core.rig import POINTINGS, microphone_findings
from dolce.core.tuning import Correction
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round, proving_round
from dolce.services.rig.rigging import moved_on
from dolce.store import UnitOfWork

Fill = Literal["hollow", "half", "full"]
_MICROPHONE = {"none": "no microphone", "no curve": "no curve yet", "wrong angle": "wrong curve",
               "not asked": "pointing not said", "one input twice": "one input twice",
               "not compared": "not compared"}


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


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Facts:
    """What the lines of the stops follow from.

    Attributes
    ----------
    taken, proven, wanted : takes of the present round, of the proving one, and cells of the board
    level : "checked", "stale" or "unchecked"
    """

    job: Job
    round: Round
    taken: int
    any_take: bool
    base: Round | None
    aligned: bool
    filters: str
    loaded: tuple[str, ...]
    proven: int
    level: Literal["checked", "stale", "unchecked"]
    wrong_microphone: str

    @property
    def wanted(self) -> int:
        return len(self.job.asked)


# For each stop the cases in which it can be, the first that holds counts: when, how far it is, and in words.
_Case = tuple[Callable[[_Facts], object], Fill, Callable[[_Facts], str]]
_CASES: dict[str, tuple[_Case, ...]] = {
    "room": (
        (lambda f: f.job.spots, "full", lambda f: f"{f.job.plan.layout}, {len(f.job.spots)} spots"),
        (lambda f: True, "half", lambda f: f"{f.job.plan.layout}, no spots"),
    ),
    "rig": (
        (lambda f: f.wrong_microphone and (f.level == "checked" or f.job.rig.microphones), "half",
         lambda f: _MICROPHONE[f.wrong_microphone]),
        (lambda f: f.wrong_microphone, "hollow", lambda f: _MICROPHONE[f.wrong_microphone]),
        (lambda f: f.level == "checked", "full", lambda f: "level checked"),
        (lambda f: f.level == "stale", "half", lambda f: "check level again"),
        (lambda f: True, "half", lambda f: "level not checked"),
    ),
    "takes": (
        (lambda f: f.taken and f.taken == f.wanted, "full", lambda f: f"{f.taken} of {f.wanted} takes"),
        (lambda f: f.taken, "half", lambda f: f"{f.taken} of {f.wanted} takes"),
        (lambda f: True, "hollow", lambda f: f"0 of {f.wanted} takes"),
    ),
    "read": (
        (lambda f: f.any_take, "full", lambda f: f"round {f.round.name}"),
        (lambda f: f.base, "full", lambda f: "nothing in this round"),
        (lambda f: True, "hollow", lambda f: "nothing to read"),
    ),
    "align": (
        (lambda f: f.aligned, "full", lambda f: "chosen"),
        (lambda f: f.base, "half", lambda f: "proposal ready"),
        (lambda f: True, "hollow", lambda f: "needs takes"),
    ),
    "shape": (
        (lambda f: f.filters, "full", lambda f: f.filters),
        (lambda f: f.base, "half", lambda f: "no filters yet"),
        (lambda f: True, "hollow", lambda f: "needs takes"),
    ),
    "load": (
        (lambda f: f.loaded, "full", lambda f: f"preset {' and '.join(f.loaded)}"),
        (lambda f: f.filters, "half", lambda f: "nothing loaded"),
        (lambda f: True, "hollow", lambda f: "nothing loaded"),
    ),
    "prove": (
        (lambda f: f.proven and f.proven == f.wanted, "full", lambda f: f"{f.proven} of {f.wanted} takes"),
        (lambda f: f.proven, "half", lambda f: f"{f.proven} of {f.wanted} takes"),
        (lambda f: True, "hollow", lambda f: "not yet"),
    ),
}

STOPS = tuple(_CASES)


class Progress:
    """The state of a job at a glance."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def status(self, job_id: int) -> JobStatus:
        with self._context.look() as work:
            facts, running = _facts(work, work.jobs.get(job_id)), work.passes.running()
        stops = []
        for stop, cases in _CASES.items():
            fill, line = next((fill, line) for holds, fill, line in cases if holds(facts))
            stops.append(StopLine(stop=stop, fill=fill, line=line(facts)))
        return JobStatus(job=facts.job, round=facts.round, stops=tuple(stops), running=running,
                         microphone=_microphone(facts.job), microphone_fits=not facts.wrong_microphone)


def _facts(work: UnitOfWork, job: Job) -> _Facts:
    present = next(r for r in work.takes.rounds(job.id) if r.id == job.round_id)
    alignment, correction = work.alignments.current(job.id), work.corrections.current(job.id)
    kept = correction.round_id if correction else alignment.round_id if alignment else None
    after, level = proving_round(work, job), work.passes.latest(job.id, "level")
    stale = moved_on(job.rig, level)
    wrong = microphone_findings(job.rig.microphones, job.rig.pointing)
    return _Facts(
        job=job, round=present, taken=_taken(work, job, present), any_take=work.takes.has_any(present.id),
        base=base_round(work, job, kept=kept), aligned=bool(alignment and alignment.channels),
        filters=_filters(correction),
        loaded=tuple(sorted(slot for slot, preset in job.processor.presets.items() if preset.ours)),
        proven=_taken(work, job, after) if after else 0, wrong_microphone=wrong[0].kind if wrong else "",
        level="stale" if stale else "checked" if level is not None and level.state == "done" else "unchecked")


def _filters(correction: Correction | None) -> str:
    """What corrects, in a few words; empty for nothing."""
    if correction is None:
        return ""
    counts = [correction.counts(channel) for channel in correction.bands]
    free, fixed = (max((count[k] for count in counts), default=0) for k in (0, 1))
    return ", ".join([f"{number} {kind}" for number, kind in ((free, "bands"), (fixed, "fixed bands")) if number]
                     + (["convolution"] if correction.convolutions else []))


def _taken(work: UnitOfWork, job: Job, of: Round) -> int:
    """How many cells of a round's board are done."""
    return work.takes.settled_count(of.id, set(job.asked))


def _microphone(job: Job) -> str:
    """Microphone, pointing and curve in a few words, for the header of every stop."""
    if not job.rig.microphones:
        return "no microphone chosen"
    _, angle = job.rig.microphones[0].curve(job.rig.pointing)
    more = f" and {len(job.rig.microphones) - 1} more" if len(job.rig.microphones) > 1 else ""
    curve = "no curve" if angle is None else f"{angle}° curve"
    where = POINTINGS[job.rig.pointing][0] if job.rig.pointing else "pointing not said"
    return f"Mic{more} {where}, {curve}"
