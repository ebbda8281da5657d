"""Work that makes sound: one thread, one pass at a time, its state in the store.

A pass is a row of steps (a channel at a spot). Each finished step is kept in the same transaction that moves the pass
forward, so a process that is killed leaves whole takes only. After a start, passes that still count as running are
marked as interrupted and can go on.
"""

import logging
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor

from dolce.core.job import PassRecord
from dolce.devices.interface import Progress, SoundStopped, Stopped
from dolce.errors import DolceError
from dolce.services.context import Context
from dolce.store import UnitOfWork

log = logging.getLogger(__name__)

# Does one step (channel, spot) and returns what keeps it; that is called inside the transaction of the step.
Step = Callable[[str, int, Progress, Stopped], Callable[[UnitOfWork], dict | None]]

_REPORT_EVERY_S = 0.15


class SoundWork:
    """Runs passes and stops them."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="sound")
        self._stop = threading.Event()
        self._future: Future | None = None
        with context.change() as work:
            work.passes.interrupt_running()

    def start(self, job_id: int, *, kind: str, steps: list[tuple[str, int]], seconds_per_step: float,
              step: Step, result: dict | None = None, before: Callable[[], None] | None = None) -> PassRecord:
        """Begin a pass and return at once; Conflict where one is running. What `result` holds is kept or replaced.

        `before` is called when the pass is sure to begin, before its first step.
        """
        with self._context.change() as work:
            record = work.passes.start(job_id, kind=kind, steps=steps, seconds_per_step=seconds_per_step,
                                       at=self._context.now(), result=result)
        self._stop.clear()
        if before is not None:
            before()
        self._future = self._pool.submit(self._run, record, step)
        return record

    def stop(self) -> bool:
        """Silence at once; finished takes stay. Whether anything was playing."""
        self._stop.set()
        return self.running() is not None

    def running(self) -> PassRecord | None:
        """The pass that makes sound now, in whichever job."""
        with self._context.look() as work:
            return work.passes.running()

    def latest(self, job_id: int, kind: str) -> PassRecord | None:
        with self._context.look() as work:
            return work.passes.latest(job_id, kind)

    def wait(self, timeout_s: float | None = None) -> None:
        """Until the present pass has ended; for commands and tests."""
        if self._future is not None:
            self._future.result(timeout_s)

    def close(self) -> None:
        """Stop and end the thread."""
        self.stop()
        self._pool.shutdown(wait=True)

    def _run(self, record: PassRecord, step: Step) -> None:
        state, message = "done", ""
        try:
            for number, (channel, spot) in enumerate(record.steps):
                keep = step(channel, spot, self._reporter(record.id, number), self._stop.is_set)
                with self._context.change() as work:
                    result = keep(work)
                    work.passes.advance(record.id, done_steps=number + 1, fraction=0.0)
                    if result is not None:
                        merged = {**work.passes.get(record.id).result, **result}
                        work.passes.finish(record.id, state="running", result=merged)
        except SoundStopped:
            state, message = "stopped", "Stopped by hand. Finished takes are kept."
        except DolceError as error:
            state, message = "failed", str(error)
        except Exception:
            # Not carried on: the pass ends as failed, and the fault goes to the log with its trace.
            log.exception("pass %d broke", record.id)
            state, message = "failed", "Something broke inside Dolce. Finished takes are kept; the log has the details."
        with self._context.change() as work:
            work.passes.finish(record.id, state=state, message=message)

    def _reporter(self, pass_id: int, done_steps: int) -> Progress:
        """Writes the part done to the store, several times a second at most."""
        last = time.monotonic()

        def report(fraction: float) -> None:
            nonlocal last
            if time.monotonic() - last > _REPORT_EVERY_S:
                last = time.monotonic()
                with self._context.change() as work:
                    work.passes.advance(pass_id, done_steps=done_steps, fraction=fraction)

        return report
