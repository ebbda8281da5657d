"""The verdict on a job, with all that it follows from looked up."""

from functools import partial

from dolce.core.cache import Cache
from dolce.core.job import Job, LinesResult, PassRecord, result_of
from dolce.core.tuning import JobVerdict, ProofFacts, verdict_of
from dolce.services.context import Context
from dolce.services.prove.proving import ProofView, Proving
from dolce.services.prove.tolerating import Tolerating
from dolce.services.rig.line_checking import LineChecking
from dolce.services.takes.board import moved_since
from dolce.store import UnitOfWork
from dolce.words.verdicts import heading

_KEPT = 64
_VERDICT = "Verdict: "


class Verdicts:
    """Verdicts on jobs; each is found again only when something that it rests on has changed."""

    def __init__(self, context: Context, proving: Proving, tolerating: Tolerating, lines: LineChecking) -> None:
        self._context = context
        self._proving, self._tolerating, self._lines = proving, tolerating, lines
        self._kept: Cache[tuple, JobVerdict] = Cache(_KEPT)

    def note_behind(self, record: PassRecord) -> None:
        """After a pass of takes, the verdict goes into the logbook, found behind the pages."""
        if record.kind == "takes":
            self._context.background.begin("verdict", record.id, lambda: [partial(self._note, record.job_id)])

    def _note(self, job_id: int) -> None:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            present = next(round_ for round_ in work.takes.rounds(job_id) if round_.id == job.round_id)
            whole = work.takes.settled_count(present.id, set(job.asked)) >= len(job.asked)
        if not present.corrects or not whole:
            return  # nothing is proven by it, or there is more to come
        verdict = self.of(job_id)
        if verdict.kind == "not known":
            return
        text = f"{_VERDICT}{heading(verdict)}"
        with self._context.change() as work:
            if text != work.logbook.last(job_id, start=_VERDICT):
                work.logbook.add(job_id, text, at=self._context.now())

    def of(self, job_id: int) -> JobVerdict:
        """What can be said of a job now."""
        wanted = repr(self._tolerating.chosen(job_id))
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            running, lines = work.passes.running(), work.passes.latest(job_id, "lines")
            rests_on = (
                job_id,
                job.changed_at,
                work.takes.stamp_of_job(job_id),
                work.corrections.version(job_id),
                None if running is None else running.id,
                None if lines is None else (lines.id, lines.state),
                tuple(
                    (channel, line.heard, line.for_processor)
                    for channel, line in result_of(LinesResult, lines).lines.items()
                ),
                wanted,
            )
        return self._kept.get_or(rests_on, lambda: self._found(job_id))

    def _found(self, job_id: int) -> JobVerdict:
        view = self._proving.view(job_id)
        if view.needs:
            return verdict_of(ProofFacts(needs=view.needs))
        lines = self._lines.view(job_id)
        tolerances = self._tolerating.view(job_id)
        outside = [figure for figure in tolerances.figures if figure.outcome == "fails"]
        with self._context.look() as work:
            return verdict_of(
                ProofFacts(
                    **_of_round(work, view.job, view),
                    objections=view.against,
                    spots=view.spots,
                    spots_wanted=view.spots_wanted,
                    moved_meanwhile=view.moved,
                    lines_wrong=lines.wrong,
                    lines_doubtful=tuple(line.channel for line in lines.lines if line.word == "look"),
                    lines_checked=lines.checked == len(lines.lines),
                    outside=len(outside),
                    asked_for=len(tolerances.asked_for),
                    figures=len(tolerances.figures),
                    tolerances=tolerances.wanted.name,
                )
            )


def _of_round(work: UnitOfWork, job: Job, view: ProofView) -> dict:
    """What follows from the proving round, and from what was done after it."""
    after = view.after_round
    if after is None or after.state is None:
        return {}
    takes = {(take.channel, take.spot_id): take for take in work.takes.latest(after.id)}
    running = work.passes.running()
    return {
        "taken": work.takes.settled_count(after.id, set(job.asked)),
        "wanted": len(job.asked),
        "sounding": running is not None and running.job_id == job.id and running.kind == "takes",
        "measured_at": max((take.taken_at for take in takes.values()), default=None),
        "moved_since": moved_since(job, takes),
        "same_processor": after.state.sounds_like(job.processor, job.channels),
        "same_correction": view.correction.held_by(after.state.presets[after.state.active])
        and view.correction.stands_on(work.alignments.current(job.id)),
    }
