"""Work that makes sound: one thread, one pass at a time.

A pass is a row of steps (a channel at a spot). Each finished step is kept in the same transaction that moves the pass
forward, so a process that is killed leaves whole takes only. Whether a pass runs is known by the thread that runs it
(`sounding`); its row says how far it came, and how it ended.
"""

import logging
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Literal

from dolce.core.job import PassRecord, PassResult, PassState
from dolce.devices.interface import Progress, SoundStopped, Stopped, telling_of_silence
from dolce.errors import Conflict, DolceError
from dolce.services.context import Context
from dolce.services.sound.sounding import Sounding
from dolce.store import UnitOfWork

log = logging.getLogger(__name__)

# Keeps what a step found. Is given what the pass has found so far, and returns what that becomes; None for no change.
Keep = Callable[[UnitOfWork, PassResult], PassResult]
# Does one step (channel, spot) and returns what keeps it; that is called inside the transaction of the step.
Step = Callable[[str, int, Progress, Stopped], Keep]
# What a stop found: nothing; something asked for that will not begin; a pass that it ended, or that ended by itself
# at that moment; one that is silent, and still computes something; or one that has not fallen silent in time.
StopOutcome = Literal["nothing", "not begun", "stopped", "ended by itself", "quiet", "not silent"]

SILENT_WITHIN_S = 6.0  # a driver that has died is left behind after five
_ENDS_WITHIN_S = 0.01  # once nothing sounds: what takes longer reads what was heard


class SoundWork:
    """Runs passes and stops them."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._now = context.sounding
        self._pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="sound")
        self._starting = threading.Lock()
        self.ended: list[Callable[[PassRecord], None]] = []  # each hears of every pass, once its end is written down

    def start(
        self,
        job_id: int,
        *,
        kind: str,
        steps: list[tuple[str, int]],
        seconds_per_step: float,
        step: Step,
        result: PassResult = None,
        before: Callable[[], None] | None = None,
        after: Callable[[], None] | None = None,
        waits_s: Sequence[float] = (),
    ) -> PassRecord:
        """Begin a pass and return at once. `result` is what it starts from.

        `before` is called when the pass is sure to begin, before its first step, and `after` when it has ended in
        whatever way, its first step perhaps never begun. `waits_s` are silences before steps.

        Raises
        ------
        Conflict
            Where one is running, or stop was pressed since this was asked for.
        """
        asked = self._now.stops_when_asked()
        with self._starting:
            self._now.require_not_stopped(asked)
            ending = self._now.present
            # Pages say already that it has ended.
            if ending is not None and (ending.silent.is_set() or (ending.stop.is_set() and ending.quiet.is_set())):
                ending.over.wait(SILENT_WITHIN_S)
            if self._now.present is not None:
                raise Conflict(
                    "sound is playing already, perhaps from another tab.",
                    where="pass",
                    remedy="Wait until it ends, or stop it first.",
                )
            with self._context.change() as work:
                work.passes.settle()
                record = work.passes.start(
                    job_id,
                    kind=kind,
                    steps=steps,
                    seconds_per_step=seconds_per_step,
                    at=self._context.now(),
                    result=result,
                )
            if before is not None:
                before()
            self._pool.submit(self._run, self._now.begin(record, asked=asked, waits_s=waits_s), step, after)
        return record

    def stop(self, *, within_s: float = SILENT_WITHIN_S) -> StopOutcome:
        """Silence at once, and wait until it is silent; finished takes stay."""
        asked_for = self._now.asked_for
        present = self._now.press_stop()
        if present is None:
            return "not begun" if asked_for else "nothing"
        if not present.quiet.wait(within_s):
            return "not silent"
        if not present.silent.wait(_ENDS_WITHIN_S):
            return "quiet"
        return "stopped" if present.state == "stopped" else "ended by itself"

    def pause(self) -> None:
        """Hold before the next step; what sounds now is finished first."""
        if (present := self._now.present) is not None:
            present.paused.set()

    def go_on(self) -> None:
        """End a pause; a wait that it interrupted goes on. Where nothing is paused, end the wait before a step."""
        if (present := self._now.present) is None:
            return
        if present.paused.is_set():
            present.paused.clear()
        elif present.waiting_s > 0:
            present.hurried.set()

    def skip(self) -> None:
        """End the present step without keeping it, and go on with the next."""
        if (present := self._now.present) is not None:
            present.skipped.set()

    def running(self) -> PassRecord | None:
        """The pass that makes sound now, in whichever job."""
        present = self._now.present
        return None if present is None else self._now.truth(present.record)

    def latest(self, job_id: int, kind: str) -> PassRecord | None:
        with self._context.look() as work:
            return work.passes.latest(job_id, kind)

    def wait(self, timeout_s: float | None = None) -> bool:
        """Until the present pass has ended; whether it has."""
        present = self._now.present
        return present is None or present.over.wait(timeout_s)

    def close(self) -> None:
        """Stop and end the thread."""
        self._now.press_stop()
        self._pool.shutdown(wait=True)

    def _run(self, sounding: Sounding, step: Step, after: Callable[[], None] | None) -> None:
        record, message = sounding.record, ""
        state: PassState = "done"
        try:
            for number, (channel, spot) in enumerate(record.steps):
                sounding.hold()
                if sounding.stop.is_set():
                    raise SoundStopped
                keep = self._heard(sounding, step, channel, spot)
                with self._context.change() as work:
                    result = None if keep is None else keep(work, work.passes.get(record.id).result)
                    work.passes.advance(record.id, done_steps=number + 1)
                    if result is not None:
                        work.passes.keep_result(record.id, result)
                sounding.done_steps, sounding.fraction = number + 1, 0.0
        except SoundStopped:
            state, message = "stopped", "Stopped by hand. Finished takes are kept."
        except DolceError as error:
            state, message = "failed", str(error)
        except Exception:
            # Not carried on: the pass ends as failed, and the fault goes to the log with its trace.
            log.exception("pass %d broke", record.id)
            state, message = "failed", "Something broke inside Dolce. Finished takes are kept; the log has the details."
        finally:
            sounding.state, sounding.message = state, message
            if after is not None:
                after()
            sounding.silent.set()
            sounding.quiet.set()
            self._write_end(sounding)
            for hear in self.ended:
                hear(record)
            sounding.over.set()

    @staticmethod
    def _heard(sounding: Sounding, step: Step, channel: str, spot: int) -> Keep | None:
        """Do one step; None where it was skipped."""
        try:
            if not sounding.skipped.is_set():
                sounding.quiet.clear()
                with telling_of_silence(sounding.quiet):
                    return step(channel, spot, _reporter(sounding), lambda: sounding.silenced)
        except SoundStopped:
            if sounding.stop.is_set():
                raise
        sounding.skipped.clear()
        return None

    def _write_end(self, sounding: Sounding) -> None:
        """How a pass ended goes into its row; where that fails it is remembered until the next pass begins."""
        try:
            with self._context.change() as work:
                work.passes.finish(sounding.record.id, state=sounding.state, message=sounding.message)
        except DolceError as error:
            log.error("the end of pass %d could not be written: %s", sounding.record.id, error)
            self._now.keep_unwritten(sounding)


def _reporter(sounding: Sounding) -> Progress:
    """Takes down the part done of the present step."""

    def report(fraction: float) -> None:
        sounding.fraction = fraction

    return report
