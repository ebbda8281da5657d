"""The processor in the chain: its limits, what it holds, the blank slate, and what is shut or dimmed."""

from dataclasses import dataclass, replace
from datetime import datetime

from dolce.core.filters import PeakingFilter
from dolce.core.job import Job
from dolce.core.processor import (
    BYPASS,
    REHEARSAL_LIMITS,
    BassManagement,
    ChannelSettings,
    Crossover,
    Preset,
    ProcessorLimits,
    ProcessorState,
)
from dolce.core.rig import SLATE
from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ProcessorView:
    """The processor of a job.

    Attributes
    ----------
    readable : bool
        Whether what it holds can be read: the rehearsal's can, one behind this computer's audio can't.
    kept : (number, moment, state) of what it held before, the latest first
    broken : what the limits do not allow of what is in the presets
    """

    job: Job
    readable: bool
    shelf: tuple[ProcessorLimits, ...]
    deleted: tuple[ProcessorLimits, ...]
    kept: tuple[tuple[int, datetime, ProcessorState], ...]
    broken: tuple[str, ...]

    @property
    def state(self) -> ProcessorState:
        return self.job.processor

    @property
    def is_clean(self) -> bool:
        """Whether the first take may begin: neutral, and everything ticked that can't be read."""
        return self.state.is_neutral and (self.readable or set(SLATE) <= set(self.state.slate))


class ProcessorKeeping:
    """The processor of one job, and the limits that are kept for all jobs."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> ProcessorView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            limits = job.limits
            return ProcessorView(
                job=job, readable=job.rig.hardware == "rehearsal", shelf=tuple(work.processors.all()),
                deleted=tuple(work.processors.deleted()), kept=tuple(work.kept_states.all(job_id)),
                broken=tuple(f"preset {slot}, {text}" for slot, preset in sorted(job.processor.presets.items())
                             for text in limits.broken_by(preset)) if limits else ())

    # The shelf of limits

    def add_limits(self, job_id: int, limits: ProcessorLimits) -> ProcessorLimits:
        """Keep the limits of a device for all jobs, and use them in this one."""
        with self._context.change() as work:
            if limits.name in (kept.name for kept in work.processors.all()):
                raise InvalidValue(f"there is a processor {limits.name!r} already.", where="name",
                                   remedy="Choose another name, or change that one.")
            kept = work.processors.add(limits)
            self._use(work, job_id, kept)
            return kept

    def change_limits(self, limits: ProcessorLimits) -> None:
        """Change a device's limits, also in the jobs that use it."""
        with self._context.change() as work:
            work.processors.change(limits)
            for job in work.jobs.all():
                if job.rig.limits is not None and job.rig.limits.id == limits.id:
                    work.jobs.set_rig(job.id, replace(job.rig, limits=limits))

    def use_limits(self, job_id: int, number: int | None) -> None:
        """Choose the device of a job; None for no known limits (in the rehearsal: its own)."""
        with self._context.change() as work:
            self._use(work, job_id, None if number is None else work.processors.get(number))

    def delete_limits(self, number: int) -> None:
        """Off the shelf; jobs that use them keep what they know."""
        with self._context.change() as work:
            work.processors.delete(number, self._context.now())

    def limits(self, number: int) -> ProcessorLimits:
        """Those of the shelf under a number, or NotFound."""
        with self._context.look() as work:
            return work.processors.get(number)

    def restore_limits(self, number: int) -> None:
        with self._context.change() as work:
            work.processors.restore(number)

    def _use(self, work: UnitOfWork, job_id: int, limits: ProcessorLimits | None) -> None:
        rig = work.jobs.get(job_id).rig
        work.jobs.set_rig(job_id, replace(rig, limits=limits))
        name = limits.name if limits else REHEARSAL_LIMITS.name if rig.hardware == "rehearsal" else "not known"
        work.logbook.add(job_id, f"Processor: {name}.", at=self._context.now())

    # The blank slate

    def keep(self, job_id: int) -> None:
        """Read what the processor holds and keep it."""
        with self._context.change() as work:
            job = self._readable(work, job_id)
            work.kept_states.add(job_id, job.processor, at=self._context.now())
            work.logbook.add(job_id, f"Processor read and kept: {job.processor.description}.", at=self._context.now())

    def make_neutral(self, job_id: int) -> None:
        """Bypass everything and open all channels; what it held is kept first, its presets stay in it."""
        self._change(job_id, lambda state: ProcessorState(presets=state.presets, slate=state.slate),
                     "Processor made neutral; what it held is kept.", keep=True)

    def put_back(self, job_id: int, number: int) -> None:
        """Put back what was kept, presets and all; what it holds now is kept first."""
        with self._context.look() as work:
            kept = work.kept_states.get(job_id, number)
        self._change(job_id, lambda _: kept, f"Put back into the processor: {kept.description}.", keep=True)

    def tick(self, job_id: int, item: str, *, on: bool) -> None:
        """Say that something which can't be read is neutral, or that it isn't."""
        if item not in SLATE:
            raise InvalidValue(f"{item!r} is not on the list.", where="slate", remedy="Reload the page.")
        words = SLATE[item]
        self._change(job_id, lambda state: replace(state, slate=tuple(
            key for key in SLATE if (on if key == item else key in state.slate))),
            f"{'Ticked' if on else 'No longer ticked'}: {words[0].lower()}{words[1:]}.")

    # What is shut or turned down

    def mute(self, job_id: int, channel: str) -> None:
        """Shut a channel, or open it."""
        def change(state: ProcessorState) -> ProcessorState:
            muted = set(state.muted) ^ {channel}
            return replace(state, muted=tuple(sorted(muted)))

        self._change(job_id, change, f"Mute of {channel} changed.", channel=channel)

    def solo(self, job_id: int, channel: str) -> None:
        """Only this channel is open; the same again opens all."""
        self._change(job_id, lambda state: replace(state, solo="" if state.solo == channel else channel),
                     f"Solo of {channel} changed.", channel=channel)

    def dim(self, job_id: int) -> None:
        """Everything 20 dB down, or back."""
        self._change(job_id, lambda state: replace(state, dimmed=not state.dimmed), "Dimming changed.")

    def leave_something(self, job_id: int) -> None:
        """Rehearsal: what somebody left in the processor, to be found: trims, a delay, a crossover, an equaliser."""
        def change(state: ProcessorState) -> ProcessorState:
            with self._context.look() as work:
                job = work.jobs.get(job_id)
            mains = [s.channel for s in job.speakers if not s.is_sub]
            channels = {c: ChannelSettings(filters=(PeakingFilter(frequency_hz=3000.0, gain_db=3.0, q=0.7),))
                        for c in mains}
            channels[mains[0]] = replace(channels[mains[0]], trim_db=-2.0, delay_s=0.003)
            subs = tuple(s.channel for s in job.speakers if s.is_sub)
            bass = BassManagement(crossover=Crossover(frequency_hz=80.0), subs=subs) if subs else None
            left = Preset(name="Film night", channels=channels, bass=bass, ours=False)
            return replace(state, active="C", presets={**state.presets, "C": left})

        self._change(job_id, change, "")

    def _change(self, job_id: int, change, said: str, *, channel: str = "", keep: bool = False) -> None:
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            if channel:
                job.speaker(channel)
            running = work.passes.running()
            if running is not None and running.job_id == job_id and running.kind in ("takes", "lines", "level"):
                raise Conflict("a pass is running in this state.", where="processor", remedy="Stop it first.")
            if keep and job.processor not in [state for _, _, state in work.kept_states.all(job_id)]:
                work.kept_states.add(job_id, job.processor, at=self._context.now())
            work.jobs.set_processor(job_id, change(job.processor))
            if said:
                work.logbook.add(job_id, said, at=self._context.now())
            work.jobs.touch(job_id, self._context.now())

    @staticmethod
    def _readable(work: UnitOfWork, job_id: int) -> Job:
        job = work.jobs.get(job_id)
        if job.rig.hardware != "rehearsal":
            raise Conflict("this processor can't be read.", where="processor",
                           remedy="Note its settings by hand or with its own program, then tick the list.")
        return job


def shown_settings(state: ProcessorState, channels: tuple[str, ...]) -> dict[str, ChannelSettings]:
    """What each channel gets now, for reading."""
    return {} if state.active == BYPASS else {channel: state.settings_for(channel) for channel in channels}
