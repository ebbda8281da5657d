"""Speaks to the processor that a job loads, and notes what it holds afterwards.

Speaking to it stands outside any transaction: a device may be slow, and what it holds is its own business. What is
noted is always what was read back.
"""

import contextlib
from collections.abc import Callable
from dataclasses import replace
from typing import TypeVar

from dolce.core.job import Job
from dolce.core.processor import ProcessorState
from dolce.devices.opening import processor_of
from dolce.devices.processor import Processor
from dolce.errors import Conflict, DeviceError
from dolce.services.context import Context
from dolce.services.rig.conversations import Conversations
from dolce.store import UnitOfWork

# Passes whose takes or readings hold for one state of the processor.
_NEEDS_ONE_STATE = ("takes", "lines", "level")
Result = TypeVar("Result")


class ProcessorAccess:
    """The processor of each job."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._conversations = Conversations()

    def spoken(self, job_id: int, work: Callable[[], Result]) -> Result:
        """What `work` says to the processor and hears: on the network in a thread of its own, which no page waits for
        for long (`Conversations.hold`)."""
        with self._context.look() as looked:
            address = looked.jobs.get(job_id).rig.processor.address
        return self._conversations.hold(address, work) if address else work()

    def read(self, job_id: int) -> Job:
        """Read it again where that can be done; the job as it is known then. Errors as of `tell`."""
        return self.spoken(job_id, lambda: self._read(job_id))

    def _read(self, job_id: int) -> Job:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        if not job.rig.processor.can.readable:
            return job
        held = _with_words(self._of(job).read(), job.processor)
        if held == job.processor:
            return job
        return self._note(job_id, held, f"Processor read: it holds something else than before, {held.description}.")

    def look(self, job_id: int) -> tuple[Job, str]:
        """The same for pages: where it does not answer at once, the job as it was known, and why; empty where all is
        well."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        if not job.rig.processor.address:
            return self._read(job_id), ""
        read, trouble = self._conversations.glance(job.rig.processor.address, lambda: self._read(job_id))
        if read is None:
            with self._context.look() as work:
                read = work.jobs.get(job_id)
        return read, trouble

    def wait(self) -> None:
        """Until nothing is said to any processor."""
        self._conversations.wait()

    def tell(
        self,
        job_id: int,
        tell: Callable[[Processor, ProcessorState], None],
        *,
        summary: str = "",
        keep: bool = False,
        then: Callable[[ProcessorState], None] | None = None,
    ) -> None:
        """Do something with it, given what it held; `keep` keeps what it held before. `then` is given what it holds
        afterwards, also where that takes longer than a page waits.

        Raises
        ------
        Conflict
            While a pass is running that needs it as it is, or while it is spoken to already.
        DeviceError
            Where it refuses, or does not answer.
        """

        def all_of_it() -> None:
            held = self._load(job_id, tell, summary, keep)
            if then is not None:
                then(held)

        self.spoken(job_id, all_of_it)

    def _load(
        self, job_id: int, tell: Callable[[Processor, ProcessorState], None], summary: str, keep: bool
    ) -> ProcessorState:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            require_free(work, job_id)
        device = self._of(job)
        before = device.read()
        if keep:
            with self._context.change() as work:
                if not work.kept_states.has(job_id, before):
                    work.kept_states.add(job_id, before, at=self._context.now())
        try:
            tell(device, before)
        except DeviceError:
            # It broke off half-way: what counts is what it holds, where it still says so.
            with contextlib.suppress(DeviceError):
                self._note(job_id, _with_words(device.read(), job.processor), "")
            raise
        return self._note(job_id, _with_words(device.read(), job.processor), summary).processor

    def say(self, job_id: int, change: Callable[[ProcessorState], ProcessorState], *, summary: str) -> None:
        """Note what only the person knows: ticks of the neutral processor, and which others of the chain are on."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            require_free(work, job_id)
        self._note(job_id, change(job.processor), summary)

    def _note(self, job_id: int, held: ProcessorState, summary: str) -> Job:
        with self._context.change() as work:
            work.jobs.set_processor(job_id, held)
            if summary:
                work.logbook.add(job_id, summary, at=self._context.now())
            work.jobs.touch(job_id, self._context.now())
            return work.jobs.get(job_id)

    def _of(self, job: Job) -> Processor:
        def hold(state: ProcessorState) -> None:
            with self._context.change() as work:
                work.jobs.set_simulated(job.id, state)

        return processor_of(job, hold=hold)


def require_free(work: UnitOfWork, job_id: int) -> None:
    """Conflict while a pass of a job is running that needs its processor as it is."""
    running = work.passes.running()
    if running is not None and running.job_id == job_id and running.kind in _NEEDS_ONE_STATE:
        raise Conflict("a pass is running in this state.", where="processor", remedy="Stop it first.")


def _with_words(held: ProcessorState, known: ProcessorState) -> ProcessorState:
    """What a processor holds, with what only the person knows of the chain."""
    return replace(held, slate=known.slate, by_themselves=known.by_themselves)
