"""One line for each of the eight stops: what is done and what is missing."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Literal

from dolce.core.job import Job, JobFacts, LevelResult, PassRecord, Round, StepKey, next_step, result_of
from dolce.core.job.next_step import LinesState
from dolce.core.rig import POINTINGS, MicrophoneFault, microphone_findings, slate_missing
from dolce.core.tuning import Alignment, Correction, JobVerdict
from dolce.services.context import Context
from dolce.services.prove.verdicts import Verdicts
from dolce.services.read.round_curves import base_round, proving_round
from dolce.services.rig.line_checking import lines_view
from dolce.services.rig.rigging import moved_on
from dolce.services.takes.outliers import OutliersOfRounds
from dolce.store import UnitOfWork

Fill = Literal["hollow", "half", "full"]
_MICROPHONE: dict[MicrophoneFault | None, str] = {
    None: "",
    "none": "no microphone",
    "no curve": "no curve yet",
    "wrong angle": "wrong curve",
    "not asked": "pointing not said",
    "one input twice": "one input twice",
    "not compared": "not compared",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class StopLine:
    """How far a stop is, and in words."""

    stop: str
    fill: Fill
    line: str


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class JobStatus:
    """What the header of every page of a job shows.

    Attributes
    ----------
    next : what to do next
    next_spot : id of the first spot where something of the present round is missing
    last_take : number of the take of the present round that came in last, where one is missing
    taken, wanted : takes of the present round, and cells of the board
    loaded : letter of a preset that holds the present filters; empty for none
    outliers : takes that do not fit the others, where they are next to be looked at
    clipped : channels that came too near to clipping in the level check, and by how much they have to come down
    verdict : what can be said of the job; None before it is proven or disproven
    """

    job: Job
    round: Round
    verdict: JobVerdict | None
    stops: tuple[StopLine, ...]
    running: PassRecord | None
    microphone: str
    microphone_fits: bool
    microphone_fault: MicrophoneFault | None
    next: StepKey
    next_spot: int | None
    last_take: int
    taken: int
    wanted: int
    loaded: str
    clipped: Mapping[str, float]
    outliers: int = 0


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
    clipped: Mapping[str, float]
    wrong_microphone: MicrophoneFault | None
    next: JobFacts

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
        (
            lambda f: f.wrong_microphone and (f.level == "checked" or f.job.rig.microphones),
            "half",
            lambda f: _MICROPHONE[f.wrong_microphone],
        ),
        (lambda f: f.wrong_microphone, "hollow", lambda f: _MICROPHONE[f.wrong_microphone]),
        (lambda f: f.level == "checked" and f.clipped, "half", lambda f: "level clips"),
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
_PROVEN: dict[str, tuple[Fill, str]] = {
    "proven": ("full", "proven"),
    "proven but": ("full", "proven, with limits"),
    "not proven": ("half", "not proven"),
    "since": ("half", "changed since"),
}


class Progress:
    """The state of a job at a glance."""

    def __init__(self, context: Context, verdicts: Verdicts, outliers: OutliersOfRounds) -> None:
        self._context, self._verdicts, self._outliers = context, verdicts, outliers

    def status(self, job_id: int) -> JobStatus:
        with self._context.look() as work:
            facts, running = _facts(work, work.jobs.get(job_id)), work.passes.running()
            spot, last = _next_spot(work, facts) if facts.taken < facts.wanted else (None, 0)
        step = next_step(facts.next)
        outliers = len(self._outliers.of(facts.job, facts.base)) if step == "align" and facts.base else 0
        if outliers:  # looked for only where they are the next thing to look at
            step = next_step(replace(facts.next, outliers=outliers))
        verdict = self._verdicts.of(job_id) if step == "prove" else None
        stops = []
        for stop, cases in _CASES.items():
            fill, line = next((fill, line) for holds, fill, line in cases if holds(facts))
            stops.append(StopLine(stop=stop, fill=fill, line=line(facts)))
        if verdict is not None and verdict.kind != "not known":
            fill, words = _PROVEN[verdict.kind if not verdict.since else "since"]
            stops[-1] = StopLine(stop="prove", fill=fill, line=words)
        return JobStatus(
            job=facts.job,
            round=facts.round,
            stops=tuple(stops),
            running=running,
            microphone=_microphone(facts.job),
            microphone_fits=not facts.wrong_microphone,
            microphone_fault=facts.wrong_microphone,
            next=step,
            verdict=verdict,
            next_spot=spot,
            last_take=last,
            taken=facts.taken,
            wanted=facts.wanted,
            loaded=facts.next.loaded,
            clipped=facts.clipped,
            outliers=outliers,
        )


def _facts(work: UnitOfWork, job: Job) -> _Facts:
    present = next(r for r in work.takes.rounds(job.id) if r.id == job.round_id)
    alignment, correction = work.alignments.current(job.id), work.corrections.current(job.id)
    kept = correction.round_id if correction else alignment.round_id if alignment else None
    after, level = proving_round(work, job), work.passes.latest(job.id, "level")
    stale = moved_on(job.rig, level)
    wrong = microphone_findings(job.rig.microphones, job.rig.pointing)
    base, taken = base_round(work, job, kept=kept), _taken(work, job, present)
    clipped = {
        channel: reading.over_margin_db
        for channel, reading in result_of(LevelResult, level).readings.items()
        if reading.over_margin_db
    }
    return _Facts(
        job=job,
        round=present,
        taken=taken,
        any_take=work.takes.has_any(present.id),
        base=base,
        next=_for_next(
            work,
            job,
            present,
            base,
            alignment,
            correction,
            taken=taken,
            microphone=wrong[0].kind if wrong else "",
            level_checked=not stale and level is not None and level.state == "done",
            clips=bool(clipped),
            noise_known=base is not None or _noise_known(work, job),
            lines="done" if base is not None else lines_view(job, work.passes.latest(job.id, "lines")).state,
        ),
        aligned=len(job.channels) < 2 or bool(alignment and alignment.channels),
        filters=_filters(correction),
        loaded=tuple(sorted(slot for slot, preset in job.processor.presets.items() if preset.ours)),
        proven=_taken(work, job, after) if after else 0,
        wrong_microphone=wrong[0].kind if wrong else None,
        clipped=clipped,
        level="stale" if stale else "checked" if level is not None and level.state == "done" else "unchecked",
    )


def _for_next(
    work: UnitOfWork,
    job: Job,
    present: Round,
    base: Round | None,
    alignment: Alignment | None,
    correction: Correction | None,
    *,
    taken: int,
    microphone: str,
    level_checked: bool,
    clips: bool,
    lines: LinesState,
    noise_known: bool,
) -> JobFacts:
    """What the next step follows from."""
    wanted, state = len(job.asked), job.processor
    found = correction is not None and correction.found
    playing = None if state.bypassed else state.presets[state.active]
    running = work.passes.running()
    base_taken = 0 if base is None else taken if base.id == present.id else _taken(work, job, base)
    return JobFacts(
        sounding=running is not None and running.job_id == job.id,
        spots=len(job.spots),
        microphone=microphone,
        level_checked=level_checked,
        clips=clips,
        lines=lines,
        noise_known=noise_known,
        bypassed=state.is_neutral,
        corrects=playing is not None and playing.corrects,
        unread=0 if job.rig.processor.can.readable else len(slate_missing(state.slate)),
        begun=present.state is not None,
        fits=present.state is None or present.state.sounds_like(state, job.channels),
        taken=taken,
        wanted=wanted,
        through=present.corrects,
        base_full=bool(wanted) and base_taken >= wanted,
        has_base=base is not None,
        aligned=len(job.channels) < 2 or bool(alignment and alignment.channels),
        filters=found,
        moved_on=correction is not None and found and not correction.stands_on(alignment),
        subs=len(job.plan.subs),
        subs_one=alignment is not None and alignment.subs is not None,
        crossed=alignment is not None and alignment.routing is not None,
        loaded=next(
            (
                slot
                for slot, preset in sorted(
                    job.processor.presets.items(), key=lambda item: (item[0] != state.active, item[0])
                )
                if correction is not None and found and correction.held_by(preset)
            ),
            "",
        ),
    )


def _next_spot(work: UnitOfWork, facts: _Facts) -> tuple[int | None, int]:
    """The first spot of the walk where something of the present round is missing, and the last take that is there."""
    latest = work.takes.latest(facts.round.id)
    settled = {(take.channel, take.spot_id) for take in latest if take.settled}
    absent = {spot for code, spot in facts.job.asked if (code, spot) not in settled}
    return (
        next((spot.id for spot in facts.job.spots if spot.id in absent), None),
        max((take.id for take in latest), default=0),
    )


def _noise_known(work: UnitOfWork, job: Job) -> bool:
    noise = work.passes.latest(job.id, "noise")
    return noise is not None and noise.state == "done"


def _filters(correction: Correction | None) -> str:
    """What corrects, in a few words; empty for nothing."""
    if correction is None:
        return ""
    counts = [correction.counts(channel) for channel in correction.bands]
    free, fixed = (max((count[k] for count in counts), default=0) for k in (0, 1))
    return ", ".join(
        [f"{number} {kind}" for number, kind in ((free, "bands"), (fixed, "graphic bands")) if number]
        + (["convolution"] if correction.convolutions else [])
    )


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
