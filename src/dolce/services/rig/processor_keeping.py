"""The processor in the chain: its limits, what it holds, the neutral processor, and what is shut or dimmed."""

from dataclasses import dataclass, replace
from datetime import datetime

from dolce.core.filters import BandFilter
from dolce.core.job import Job
from dolce.core.processor import (
    BYPASS,
    BassManagement,
    ChannelSettings,
    Crossover,
    Preset,
    ProcessorInUse,
    ProcessorLimits,
    ProcessorState,
    with_other,
    without_other,
)
from dolce.core.rig import SLATE
from dolce.errors import Conflict, InvalidValue, NotFound
from dolce.services.context import Context
from dolce.services.rig.processor_access import ProcessorAccess
from dolce.store import UnitOfWork
from dolce.words.unsupported import unsupported_words


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ProcessorView:
    """The processor of a job.

    Attributes
    ----------
    kept : (number, moment, state) of what it held before, the latest first
    trouble : why it does not answer; empty where it does, or can't be asked
    broken : what the limits do not allow of what is in the presets
    """

    job: Job
    shelf: tuple[ProcessorLimits, ...]
    deleted: tuple[ProcessorLimits, ...]
    kept: tuple[tuple[int, datetime, ProcessorState], ...]
    trouble: str
    broken: tuple[str, ...]

    @property
    def state(self) -> ProcessorState:
        return self.job.processor

    @property
    def own_is_neutral(self) -> bool:
        """Whether the processor that Dolce loads changes nothing, whatever others of the chain do."""
        return replace(self.state, by_themselves=()).is_neutral

    @property
    def readable(self) -> bool:
        """Whether what it holds can be read."""
        return self.job.rig.processor.can.readable

    @property
    def is_clean(self) -> bool:
        """Whether the first take may begin: neutral, and everything ticked that can't be read."""
        return self.state.is_neutral and (self.readable or set(SLATE) <= set(self.state.slate))


_AS_IT_IS = "As it is"  # what a person said of a processor that can't be read


class ProcessorKeeping:
    """The processors of one job, and the limits that are kept for all jobs."""

    def __init__(self, context: Context, access: ProcessorAccess) -> None:
        self._context = context
        self._access = access

    def view(self, job_id: int) -> ProcessorView:
        job, trouble = self._access.look(job_id)
        with self._context.look() as work:
            limits = job.limits
            return ProcessorView(
                job=job,
                trouble=trouble,
                shelf=tuple(work.processors.all()),
                deleted=tuple(work.processors.deleted()),
                kept=tuple(work.kept_states.all(job_id)),
                broken=tuple(
                    f"preset {slot}, {unsupported_words(unsupported)}"
                    for slot, preset in sorted(job.processor.presets.items())
                    for unsupported in limits.broken_by(preset)
                )
                if limits
                else (),
            )

    # The shelf of limits

    def add_limits(self, job_id: int, limits: ProcessorLimits) -> ProcessorLimits:
        """Keep the limits of a device for all jobs, and use them in this one."""
        with self._context.change() as work:
            if limits.name in (kept.name for kept in work.processors.all()):
                raise InvalidValue(
                    f"there is a processor {limits.name!r} already.",
                    where="name",
                    remedy="Choose another name, or change that one.",
                )
            kept = work.processors.add(limits)
            self._use(work, job_id, kept)
            return kept

    def change_limits(self, limits: ProcessorLimits) -> None:
        """Change a device's limits, also in the jobs that use it."""
        with self._context.change() as work:
            work.processors.change(limits)
            for job in work.jobs.all():
                if job.rig.limits is not None and job.rig.limits.id == limits.id:
                    work.jobs.set_rig(job.id, job.rig.with_limits(limits))

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
        rig = work.jobs.get(job_id).rig.with_limits(limits)
        work.jobs.set_rig(job_id, rig)
        work.logbook.add(
            job_id, f"Processor: {rig.limits.name if rig.limits else 'not known'}.", at=self._context.now()
        )

    # What it holds

    def looked_at(self, job_id: int) -> str:
        """Read it again, so that pages show what it holds now; why that could not be done, empty where it could."""
        return self._access.look(job_id)[1]

    def keep(self, job_id: int) -> None:
        """Read what the processor holds and keep it."""
        job = self._access.read(job_id)
        if not job.rig.processor.can.readable:
            raise Conflict(
                "this processor can't be read.",
                where="processor",
                remedy="Note its settings by hand or with its own program, then tick the list.",
            )
        with self._context.change() as work:
            work.kept_states.add(job_id, job.processor, at=self._context.now())
            work.logbook.add(job_id, f"Processor read and kept: {job.processor.description}.", at=self._context.now())

    def make_neutral(self, job_id: int) -> None:
        """Bypass everything and open all channels; what it held is kept first, its presets stay in it."""
        self._access.tell(
            job_id,
            lambda device, held: device.restore(ProcessorState(presets=held.presets)),
            summary="Processor made neutral; what it held is kept.",
            keep=True,
        )

    def put_back(self, job_id: int, number: int) -> None:
        """Put back what was kept, presets and all; what it holds now is kept first."""
        with self._context.look() as work:
            kept = work.kept_states.get(job_id, number)
        self._access.tell(
            job_id,
            lambda device, _: device.restore(kept),
            summary=f"Restored in the processor: {kept.description}.",
            keep=True,
        )

    def tick(self, job_id: int, item: str, *, on: bool) -> None:
        """Say that something which can't be read is neutral, or that it isn't."""
        if item not in SLATE:
            raise InvalidValue(f"{item!r} is not on the list.", where="slate", remedy="Reload the page.")
        words = SLATE[item]
        self._access.say(
            job_id,
            lambda known: replace(
                known, slate=tuple(key for key in SLATE if (on if key == item else key in known.slate))
            ),
            summary=f"{'Ticked' if on else 'No longer ticked'}: {words[0].lower()}{words[1:]}.",
        )

    def tick_all(self, job_id: int) -> None:
        """Say that everything which can't be read is neutral."""
        self._access.say(
            job_id,
            lambda known: replace(known, slate=tuple(SLATE)),
            summary="Ticked: all points of the neutral processor.",
        )

    def type_bass(self, job_id: int, crossover: Crossover | None) -> None:
        """Say which bass management plays in a processor that can't be read; None for none.

        Raises
        ------
        Conflict
            If it says so itself, or there is no sub.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        subs = job.subs
        if job.rig.processor.can.readable:
            raise Conflict("this processor says itself what it plays.", where="processor", remedy="Read it again.")
        if not subs:
            raise Conflict("there is no sub to play the bass.", where="bass management", remedy="Add one in Room.")
        slot = job.slots[-1]

        def changed(known: ProcessorState) -> ProcessorState:
            others = {name: preset for name, preset in known.presets.items() if preset.ours or preset.name != _AS_IT_IS}
            if crossover is None:
                return replace(known, presets=others, active=known.active if known.active in others else BYPASS)
            bass = BassManagement(crossover=crossover, subs=subs)
            return replace(known, active=slot, presets={**others, slot: Preset(name=_AS_IT_IS, bass=bass, ours=False)})

        self._access.say(
            job_id,
            changed,
            summary="Bass management of the processor: "
            + (
                "none."
                if crossover is None
                else f"below {crossover.frequency_hz:g} Hz, {crossover.slope_db} dB/octave."
            ),
        )

    # What is shut or turned down

    def mute(self, job_id: int, channel: str) -> None:
        """Shut a channel, or open it."""
        self._require(job_id, channel)
        self._access.tell(
            job_id,
            lambda device, held: device.shut(
                muted=sorted(set(held.muted) ^ {channel}), solo=held.solo, dimmed=held.dimmed
            ),
            summary=f"Mute of {channel} changed.",
        )

    def solo(self, job_id: int, channel: str) -> None:
        """Only this channel is open; the same again opens all."""
        self._require(job_id, channel)
        self._access.tell(
            job_id,
            lambda device, held: device.shut(
                muted=held.muted, solo="" if held.solo == channel else channel, dimmed=held.dimmed
            ),
            summary=f"Solo of {channel} changed.",
        )

    def dim(self, job_id: int) -> None:
        """Everything 20 dB down, or back."""
        self._access.tell(
            job_id,
            lambda device, held: device.shut(muted=held.muted, solo=held.solo, dimmed=not held.dimmed),
            summary="Dimming changed.",
        )

    def _require(self, job_id: int, channel: str) -> None:
        with self._context.look() as work:
            work.jobs.get(job_id).speaker(channel)

    # Others in the row

    def add_other(self, job_id: int, other: ProcessorInUse) -> None:
        """One more behind the others, that measures and corrects by itself."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            work.jobs.set_rig(job_id, rig.changed(chain=(*rig.chain, replace(other, by_itself=True))))
            work.logbook.add(job_id, f"{other.name} joined the chain; it corrects by itself.", at=self._context.now())
            work.jobs.touch(job_id, self._context.now())

    def say_settings(self, job_id: int, name: str, settings: str) -> None:
        """What one that corrects by itself is set to, and can do, as it was read there."""
        self._require_other(job_id, name)
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            work.jobs.set_rig(job_id, rig.changed(chain=with_other(rig.chain, name, settings=settings.strip())))
            work.logbook.add(job_id, f"Settings of {name}: {settings.strip() or 'not said'}.", at=self._context.now())

    def drop_other(self, job_id: int, name: str) -> None:
        """Take one out of the chain; it is off then."""
        self._require_other(job_id, name)
        if name in self._known(job_id).by_themselves:
            self.switch_other(job_id, name)
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            work.jobs.set_rig(job_id, rig.changed(chain=without_other(rig.chain, name)))
            work.logbook.add(job_id, f"{name} taken out of the chain.", at=self._context.now())

    def switch_other(self, job_id: int, name: str) -> None:
        """Say that one which corrects by itself does so now, or no longer: another state, which rounds remember."""
        self._require_other(job_id, name)
        on = name not in self._known(job_id).by_themselves
        self._access.say(
            job_id,
            lambda known: replace(
                known,
                by_themselves=tuple(sorted({*known.by_themselves, name} if on else {*known.by_themselves} - {name})),
            ),
            summary=f"{name} {'corrects by itself now' if on else 'is off now'}.",
        )

    def _known(self, job_id: int) -> ProcessorState:
        with self._context.look() as work:
            return work.jobs.get(job_id).processor

    def _require_other(self, job_id: int, name: str) -> None:
        with self._context.look() as work:
            if name not in [processor.name for processor in work.jobs.get(job_id).rig.others]:
                raise NotFound(
                    f"there is no processor {name} in the chain.", where="processor", remedy="Reload the page."
                )

    def leave_something(self, job_id: int) -> None:
        """Rehearsal: what somebody left in the processor, to be found: trims, a delay, a crossover, an equaliser.

        Nobody is told: it is found as soon as the processor is read.
        """
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            if not job.rig.processor.can.simulated:
                raise Conflict("this is no rehearsal.", where="processor", remedy="Choose the rehearsal rig first.")
            main_channels = job.main_channels
            channels = {
                c: ChannelSettings(filters=(BandFilter(frequency_hz=3000.0, gain_db=3.0, q=0.7),))
                for c in main_channels
            }
            channels[main_channels[0]] = replace(channels[main_channels[0]], trim_db=-2.0, delay_s=0.003)
            subs = job.subs
            bass = BassManagement(crossover=Crossover(frequency_hz=80.0), subs=subs) if subs else None
            preset = Preset(name="Film night", channels=channels, bass=bass, ours=False)
            held = job.simulated
            work.jobs.set_simulated(job_id, replace(held, active="C", presets={**held.presets, "C": preset}))


def shown_settings(state: ProcessorState, channels: tuple[str, ...]) -> dict[str, ChannelSettings]:
    """What each channel gets now, for reading."""
    return {} if state.active == BYPASS else {channel: state.settings_for(channel) for channel in channels}
