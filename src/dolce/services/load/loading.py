"""The Load stop: presets in the processor, and files for any other one."""

from collections.abc import Collection, Iterator
from dataclasses import replace

from dolce.core.processor import BYPASS, Preset, ProcessorState
from dolce.core.tuning import main_seat_weights
from dolce.devices.processor import Processor
from dolce.errors import Conflict, InvalidValue, NotFound
from dolce.formats.zip_package import zip_parts
from dolce.services.context import Context
from dolce.services.load.contents import Tuned, contents_of, cut_db, preset_of, would_be
from dolce.services.load.load_view import LoadView
from dolce.services.load.packing import PackageOptions, packed
from dolce.services.rig.processor_access import ProcessorAccess
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.shaping import Shaping
from dolce.store import UnitOfWork
from dolce.words.differences import first_difference
from dolce.words.unsupported import first_words

USUAL = PackageOptions()


class Loading:
    """Presets and packages of one job."""

    def __init__(self, context: Context, shaping: Shaping, access: ProcessorAccess) -> None:
        self._context = context
        self._shaping = shaping
        self._access = access

    def view(self, job_id: int, *, slot: str = "", content: str = "") -> LoadView:
        """What would be loaded, beside what the processor reads now; held against one preset of it.

        `slot` and `content` are what is looked at; what is not said, or not there, is that which is offered first.
        """
        job, trouble = self._access.look(job_id)
        with self._context.look() as work:
            correction = present_correction(work, job)
            alignment = work.alignments.current(job_id)
            versions = {version.number: version.correction for version in work.correction_versions.all(job_id)}
            before = self._before(work, job_id)
            rounds = tuple(work.takes.rounds(job_id))
            devices = tuple(work.processors.all())
            curves = self._context.curves.of(work, correction.round_id) if correction.round_id is not None else {}
        main = main_seat_weights(job)
        heard_db = {
            channel: main_curves.average.level_db
            for channel, whole in curves.items()
            if (main_curves := whole.averaged_over_seats(main)) is not None
        }
        tuned = Tuned(job=job, correction=correction, alignment=alignment, versions=versions)
        contents = contents_of(versions)
        names = tuned.contents_by_name
        current = {
            held: would_be(names[preset.name], tuned)
            for held, preset in job.processor.presets.items()
            if preset.name in names
        }
        slot = slot if slot in job.slots else next(iter(job.slots))
        content = content if content in contents else LoadView.usual_content(job, slot, names)
        wanted = would_be(content, tuned)
        return LoadView(
            job=job,
            trouble=trouble,
            tuned=tuned,
            settings=dict(wanted.channels) if wanted else tuned.of(content).settings,
            contents=contents,
            slot=slot,
            content=content,
            cut_db=tuned.of(content).cut_db,
            before=before,
            rounds=rounds,
            devices=devices,
            heard_db=heard_db,
            loaded_is_current={held: current.get(held) == preset for held, preset in job.processor.presets.items()},
            broken={
                key: job.limits.broken_by(preset_of(key, tuned)) if job.limits else ()
                for key in ("corrected", "aligned")
            },
        )

    def load(self, job_id: int, slot: str, content: str, *, outputs: Collection[str] | None = None) -> None:
        """Write a preset into a slot of the processor and read it back; `outputs` are those that change, None for all.

        What the processor held before is kept, to be put back.

        Raises
        ------
        Conflict
            Where there is nothing such to load, the processor can't hold it, or reads back something else.
        """
        view = self.view(job_id, slot=slot, content=content)
        if slot not in view.slots or content not in view.contents:
            raise InvalidValue(f"slot {slot!r}, content {content!r}.", where="load", remedy="Reload the page.")
        if content != "aligned" and not view.tuned.of(content).correction.found:
            raise Conflict("there are no filters to load.", where="load", remedy="Find them on the Shape page first.")
        if content == "aligned" and not view.aligned:
            raise Conflict("no levels and delays are chosen.", where="load", remedy="Choose them on the Align page.")
        preset = preset_of(content, view.tuned)
        if outputs is not None:
            preset = _in_part(preset, view.job.processor.presets.get(slot), outputs, view)
        limits = view.job.limits
        broken = limits.broken_by(preset) if limits else ()
        if broken and limits:
            raise Conflict(
                f"{limits.name} can't hold it: {first_words(broken)}.",
                where=f"preset {slot}",
                remedy="Find the filters again on Shape, change trims and delays on Align, or correct the "
                "limits on the Rig page.",
            )
        read_back = " and read back" if view.job.rig.processor.can.readable else ", as you say"

        def loaded(state: ProcessorState) -> None:
            held = state.presets.get(slot)
            if held != preset:
                raise Conflict(
                    f"the processor reads back something else than was sent: {first_difference(preset, held)}.",
                    where=f"preset {slot}",
                    remedy="Load it again, or look at the device.",
                )
            with self._context.change() as work:
                work.logbook.add(job_id, f"{preset.name} loaded into preset {slot}{read_back}.", at=self._context.now())

        self._access.tell(job_id, lambda device, _: device.load(slot, preset), keep=True, then=loaded)

    def put_back(self, job_id: int, slot: str) -> None:
        """What a preset held before it was loaded last; an empty one is emptied again.

        Raises
        ------
        NotFound
            Where nothing else was ever read of it.
        """
        with self._context.look() as work:
            before = self._before(work, job_id)
        if slot not in before:
            raise NotFound(f"nothing else is known of preset {slot}.", where="load", remedy="Reload the page.")
        preset = before[slot]

        def back(device: Processor, held: ProcessorState) -> None:
            if preset is not None:
                device.load(slot, preset)
                return
            active = BYPASS if held.active == slot else held.active
            device.restore(
                replace(
                    held, active=active, presets={name: preset for name, preset in held.presets.items() if name != slot}
                )
            )

        def is_back(state: ProcessorState) -> None:
            if state.presets.get(slot) != preset:
                raise Conflict(
                    "the processor reads back something else than was put back.",
                    where=f"preset {slot}",
                    remedy="Look at the device.",
                )
            with self._context.change() as work:
                work.logbook.add(
                    job_id,
                    f"Preset {slot} is {preset.name if preset else 'empty'} again, as it was before.",
                    at=self._context.now(),
                )

        self._access.tell(job_id, back, keep=True, then=is_back)

    def wait(self) -> None:
        """Until nothing is said to any processor."""
        self._access.wait()

    def switch(self, job_id: int, to: str) -> None:
        """Play a preset, or bypass."""
        with self._context.look() as work:
            present = work.jobs.get(job_id).processor
        if to != BYPASS and to not in present.presets:
            raise InvalidValue(f"preset {to} is empty.", where="processor", remedy="Load it first.")
        state = replace(present, active=to)
        self._access.tell(job_id, lambda device, _: device.play(to), summary=f"Processor {state.description}.")

    def package(self, job_id: int, options: PackageOptions = USUAL) -> tuple[Iterator[bytes], str]:
        """Everything for another processor as one ZIP, part by part, and its file name."""
        load = self.view(job_id, content="corrected")
        if not load.shaped:
            raise Conflict("there are no filters to pack.", where="load", remedy="Find them on the Shape page first.")
        device = None
        if options.device is not None:
            with self._context.look() as work:
                device = work.processors.get(options.device)
        name = "".join(c if c.isalnum() and c.isascii() else "-" for c in load.job.name).strip("-").lower() or "job"
        return zip_parts(packed(load, self._shaping.shapes(job_id), options, device)), f"dolce-{name}.zip"

    @staticmethod
    def _before(work: UnitOfWork, job_id: int) -> dict[str, Preset | None]:
        """What each preset held before what it holds now, as it was read then; None for empty."""
        present = work.jobs.get(job_id).processor.presets
        kept = [state.presets for _, _, state in work.kept_states.all(job_id)]
        found = {}
        for slot, preset in present.items():
            other = next((held for held in kept if held.get(slot) != preset), None)
            if other is not None:
                found[slot] = other.get(slot)
        return found


def _in_part(preset: Preset, held: Preset | None, outputs: Collection[str], view: LoadView) -> Preset:
    """A preset in which some outputs are new, and the others stay as the processor holds them."""
    chosen = [channel for channel in view.job.channels if channel in outputs]
    if not chosen:
        raise InvalidValue("no output is chosen.", where="load", remedy="Tick those that shall change.")
    if len(chosen) == len(view.job.channels):
        return preset
    channels = {**(held.channels if held else {}), **{c: preset.channels[c] for c in chosen if c in preset.channels}}
    name = preset.name if held is None or held.name == preset.name else f"{preset.name}: {', '.join(chosen)}"
    return replace(
        preset,
        name=name[:120],
        channels=channels,
        cut_db=max(cut_db(view.job, channels, preset.bass), held.cut_db if held else 0.0),
    )
