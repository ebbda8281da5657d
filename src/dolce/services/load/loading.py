"""The Load stop: presets in the processor, and files for any other one."""

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from functools import lru_cache

from dolce.core.correction import FoundConvolution, headroom_of
from dolce.core.filters import BandFilter, convolution_filter
from dolce.core.filters.convolution import DURATION_S
from dolce.core.job import SAMPLE_RATES_HZ, Job
from dolce.core.processor import BYPASS, EFFECTS, ChannelSettings, Convolution, Misfit, Preset
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Alignment, Correction, OutputLoad, Outputs, output_loads, settings_of
from dolce.errors import Conflict, InvalidValue
from dolce.formats.audio_file import write_wav
from dolce.formats.filter_tables import (
    Q_CONVENTION,
    filter_row,
    write_filters_csv,
    write_filters_json,
    write_settings_json,
)
from dolce.formats.zip_package import zip_parts
from dolce.services.context import Context
from dolce.services.load.misfit_words import first_words
from dolce.services.rig.processor_at_hand import ProcessorAtHand
from dolce.services.shape.reasons import left_alone_rows
from dolce.services.shape.shaping import Shaping, present_correction

CONTENTS = {"corrected": "Aligned and corrected", "convolved": "Aligned and corrected, by convolution",
            "aligned": "Aligned only"}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoadView:
    """What would be loaded, and what the processor holds."""

    job: Job
    correction: Correction
    settings: dict[str, ChannelSettings]
    tuned: "Tuned"
    cut_db: float
    loaded_is_current: dict[str, bool]
    broken: dict[str, tuple[Misfit, ...]]

    @property
    def aligned(self) -> bool:
        """Whether levels and delays are chosen."""
        return self.tuned.stands_on is not None

    @property
    def shaped(self) -> bool:
        """Whether there are filters."""
        return self.correction.found

    @property
    def moved_on(self) -> bool:
        """Whether the alignment is no longer the one that the filters stand on."""
        return self.shaped and not self.correction.stands_on(self.tuned.alignment)

    @property
    def slots(self) -> tuple[str, ...]:
        """The processor's presets by letter."""
        return self.job.slots

    @property
    def loads(self) -> list[OutputLoad]:
        """How far every output is driven."""
        stands_on = self.tuned.stands_on
        effects = (EFFECTS,) if stands_on and stands_on.routing and stands_on.routing.effects else ()
        return output_loads(
            Outputs(settings=self.settings, bass=stands_on.routing if stands_on else None),
            [*self.job.channels, *effects],
            sample_rate_hz=self.job.rig.sample_rate_hz,
            cut_db=self.cut_db,
        )

    def made_of(self, channel: str) -> str:
        """What corrects an output, in a few words."""
        taps = self.correction.convolutions.get(channel)
        if taps is not None:
            return f"convolution, {1000 * taps.duration_s:.0f} ms"
        free, fixed = self.correction.counts(channel)
        return f"{free} and {fixed} fixed bands" if fixed else f"{free} bands"

    @property
    def impulse_words(self) -> str:
        """Phase and length of the impulse responses of the package."""
        return _impulse_words(self.correction)

    def offered(self, slot: str) -> str:
        """The content to load into a preset unless another is chosen: that which it holds; B is for comparing."""
        held = self.job.processor.presets.get(slot)
        names = {name: content for content, name in CONTENTS.items()}
        return names.get(held.name if held else "", "aligned" if slot == "B" else "corrected")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Tuned:
    """A job's correction and its alignment, as outputs get them."""

    job: Job
    correction: Correction
    alignment: Alignment | None

    @property
    def stands_on(self) -> Alignment | None:
        """The alignment that outputs get: the one that the bands stand on; without bands the present one."""
        return self.correction.alignment if self.correction.found else self.alignment

    @property
    def settings(self) -> dict[str, ChannelSettings]:
        """What every output gets, bands included."""
        return {channel: settings_of(self.stands_on or Alignment(), self.correction, channel,
                                     sample_rate_hz=self.job.rig.sample_rate_hz,
                                     most_taps=self.job.limits.taps if self.job.limits else None)
                for channel in self.job.channels}

    @property
    def aligned_only(self) -> dict[str, ChannelSettings]:
        """What every output gets without the correction."""
        return {channel: (self.stands_on or Alignment()).settings(channel) for channel in self.job.channels}


class Loading:
    """Presets and packages of one job."""

    def __init__(self, context: Context, shaping: Shaping, at_hand: ProcessorAtHand) -> None:
        self._context = context
        self._shaping = shaping
        self._at_hand = at_hand

    def view(self, job_id: int) -> LoadView:
        """What would be loaded, beside what the processor reads now."""
        job = self._at_hand.read(job_id)
        with self._context.look() as work:
            correction = present_correction(work, job)
            alignment = work.alignments.current(job_id)
        tuned = Tuned(job=job, correction=correction, alignment=alignment)
        settings = tuned.settings
        names = {name: content for content, name in CONTENTS.items()}
        current = {slot: _would_be(names[held.name], tuned) for slot, held in job.processor.presets.items()
                   if held.name in names}
        return LoadView(job=job, correction=correction, settings=settings, tuned=tuned, cut_db=_cut_db(job, settings),
                        loaded_is_current={slot: current.get(slot) == preset
                                           for slot, preset in job.processor.presets.items()},
                        broken={content: job.limits.broken_by(_preset(content, tuned)) if job.limits else ()
                                for content in ("corrected", "aligned")})

    def load(self, job_id: int, slot: str, content: str) -> None:
        """Write a preset into a slot of the processor and read it back."""
        view = self.view(job_id)
        if slot not in view.slots or content not in CONTENTS:
            raise InvalidValue(f"slot {slot!r}, content {content!r}.", where="load", remedy="Reload the page.")
        if content != "aligned" and not view.shaped:
            raise Conflict("there are no filters to load.", where="load", remedy="Find them on the Shape page first.")
        if content == "aligned" and not view.aligned:
            raise Conflict("no levels and delays are chosen.", where="load", remedy="Choose them on the Align page.")
        preset = _preset(content, view.tuned)
        broken = view.job.limits.broken_by(preset) if view.job.limits else ()
        if broken:
            raise Conflict(f"{view.job.limits.name} can't hold it: {first_words(broken)}.", where=f"preset {slot}",
                           remedy="Find the filters again on Shape, change trims and delays on Align, or correct the "
                                  "limits on the Rig page.")
        held = self._at_hand.tell(job_id, lambda device, _: device.load(slot, preset)).presets.get(slot)
        if held != preset:
            raise Conflict(f"the processor reads back something else than was sent: {_difference(preset, held)}.",
                           where=f"preset {slot}", remedy="Load it again, or look at the device.")
        read_back = " and read back" if view.job.rig.processor.can.readable else ", as you say"
        with self._context.change() as work:
            work.logbook.add(job_id, f"{preset.name} loaded into preset {slot}{read_back}.", at=self._context.now())

    def switch(self, job_id: int, to: str) -> None:
        """Play a preset, or bypass."""
        with self._context.look() as work:
            present = work.jobs.get(job_id).processor
        if to != BYPASS and to not in present.presets:
            raise InvalidValue(f"preset {to} is empty.", where="processor", remedy="Load it first.")
        state = replace(present, active=to)
        self._at_hand.tell(job_id, lambda device, _: device.play(to), said=f"Processor {state.description}.")

    def package(self, job_id: int) -> tuple[Iterator[bytes], str]:
        """Everything for another processor as one ZIP, part by part, and its file name."""
        load = self.view(job_id)
        if not load.shaped:
            raise Conflict("there are no filters to pack.", where="load", remedy="Find them on the Shape page first.")
        left_alone = {
            channel: left_alone_rows(found.plan.left_alone) for channel, found in self._shaping.shapes(job_id).items()
        }
        name = "".join(c if c.isalnum() and c.isascii() else "-" for c in load.job.name).strip("-").lower() or "job"
        return zip_parts(_packed(load, left_alone)), f"dolce-{name}.zip"


def _packed(load: LoadView, left_alone: Mapping[str, list]) -> Iterator[tuple[str, bytes]]:
    """Name and content of every file of the package, one at a time; asks nothing of the store any more."""
    job, settings = load.job, load.settings
    filters = {channel: settings[channel].filters for channel in job.channels}
    yield "README.txt", _note(load).encode()
    yield "filters/filters.json", write_filters_json({channel: {
        "filters": [filter_row(f) for f in filters[channel]],
        "trim_db": settings[channel].trim_db, "delay_s": settings[channel].delay_s,
        "polarity": settings[channel].polarity,
        "headroom_db": round(_most_db(settings[channel], job.rig.sample_rate_hz), 2),
        "left_alone": left_alone.get(channel, []),
    } for channel in job.channels})
    yield "settings.json", write_settings_json({channel: _plain(s) for channel, s in settings.items()},
                                               cut_db=load.cut_db, target=_targets(load.correction))
    for rate in SAMPLE_RATES_HZ:
        yield f"filters/biquads-{rate}.csv", write_filters_csv(filters, sample_rate_hz=rate)
        impulses: dict[object, bytes] = {}                    # both of a linked pair have the same filters
        for channel in job.channels:
            own = load.correction.convolutions.get(channel) or filters[channel]
            if own not in impulses:
                impulse = own.impulse(sample_rate_hz=rate) if isinstance(own, FoundConvolution) else convolution_filter(
                    own, sample_rate_hz=rate)
                impulses[own] = write_wav(impulse, sample_rate_hz=rate)
            yield f"impulse-responses/{rate}/{channel}-{rate}Hz.wav", impulses[own]


def _targets(correction: Correction) -> dict:
    """The target of all channels, those of single ones, and the taste on top."""
    return {**asdict(correction.target), "own": {c: asdict(aim.target) for c, aim in correction.own.items()},
            "taste": asdict(correction.taste) if correction.taste is not None else None}


def _plain(settings: ChannelSettings) -> dict:
    """Settings as values of JSON; of a convolution its length, its samples are files of their own."""
    taps = settings.convolution
    plain = asdict(replace(settings, convolution=None))
    return (
        plain if taps is None else {**plain, "convolution": {"sample_rate_hz": taps.sample_rate_hz, "taps": taps.taps}}
    )


def _difference(sent: Preset, held: Preset | None) -> str:
    """The first channel that differs, in words."""
    if held is None:
        return "the preset is empty"
    for channel, settings in sent.channels.items():
        if held.channels.get(channel) != settings:
            return f"{channel} differs"
    return "its name, cut or routing differs"


def _cut_db(job: Job, settings: dict[str, ChannelSettings]) -> float:
    """What all channels are turned down by, so that no boost of any of them exceeds full scale; in 0.1 dB up."""
    most = max((_most_db(s, job.rig.sample_rate_hz) + s.trim_db
                for s in settings.values()), default=0.0)
    return max(0.0, -(-round(most * 1000) // 100) / 10)


def _most_db(settings: ChannelSettings, sample_rate_hz: int) -> float:
    """The largest gain of an output's filters, at least 0 dB."""
    if settings.convolution is None:
        return headroom_of(settings.filters, sample_rate_hz=sample_rate_hz).gain_db
    return max(0.0, float(settings.correction_level_db(ANALYSIS_GRID_HZ, sample_rate_hz=sample_rate_hz).max()))


def _would_be(content: str, tuned: Tuned) -> Preset | None:
    """The preset as it would be loaded now; None where the processor could not hold it any more."""
    try:
        return _preset(content, tuned)
    except Conflict:
        return None


def _preset(content: str, tuned: Tuned) -> Preset:
    """All contents are turned down alike, so that comparing them is fair."""
    job, settings = tuned.job, tuned.settings
    if content == "corrected":
        own = settings
    elif content == "convolved":
        own = {
            c: replace(s, filters=(), convolution=s.convolution or _convolution(job, s.filters))
            for c, s in settings.items()
        }
    else:
        own = tuned.aligned_only
    routing = tuned.stands_on.routing if tuned.stands_on else None
    return Preset(name=CONTENTS[content], cut_db=_cut_db(job, settings), channels=own, bass=routing)


@lru_cache(maxsize=32)
def _convolved(filters: tuple[BandFilter, ...], sample_rate_hz: int, most_taps: int) -> Convolution:
    """Minimum phase, no more taps than the processor has."""
    seconds = min(DURATION_S, most_taps / sample_rate_hz)
    impulse = convolution_filter(filters, sample_rate_hz=sample_rate_hz, duration_s=seconds)
    return Convolution.of(impulse, sample_rate_hz=sample_rate_hz)


def _convolution(job: Job, filters: tuple[BandFilter, ...]) -> Convolution | None:
    if not filters:
        return None
    if job.limits is None or not job.limits.taps:
        raise Conflict(f"{job.limits.name if job.limits else 'this processor'} has no convolution.", where="load",
                       remedy="Type its taps on the Rig page under Processor, or load the bands.")
    rate = job.rig.sample_rate_hz
    return _convolved(filters, rate, job.limits.taps)


def _impulse_words(correction: Correction) -> str:
    """Phase and length of the impulse responses, and what they delay."""
    kinds = {(one.phase, one.duration_s, one.delay_s) for one in correction.convolutions.values()}
    if not kinds or len(correction.convolutions) < len(correction.channels):
        kinds.add(("minimum", DURATION_S, 0.0))
    return (
        "; ".join(
            f"{phase} phase, {seconds:g} s long at every rate" + (f", later by {1000 * later:.1f} ms" if later else "")
            for phase, seconds, later in sorted(kinds)
        )
        + "."
    )


def _note(load: LoadView) -> str:
    """The plain-text note of the package."""
    job = load.job
    lines = [
        f"Correction for {job.name}", "",
        "What is inside",
        "  impulse-responses/   one WAV per channel and sample rate: mono, 32-bit float,",
        f"                       {_impulse_words(load.correction)}",
        "                       They hold the filters only: no trim, no delay, no headroom cut.",
        "                       A filter fits its own sample rate only.",
        "  filters/filters.json all bands, levels and delays, what was left alone and why",
        "  filters/biquads-*.csv the same bands with biquad coefficients for each sample rate",
        "  settings.json        all settings per output", "",
        f"Q: {Q_CONVENTION}.", "",
        f"Turn everything down by {load.cut_db:.1f} dB, so that no boost can run out of range.", "",
        "Per output, before that cut:",
    ]
    for channel, s in load.settings.items():
        lines.append(
            f"  {channel:<4} trim {s.trim_db:+.1f} dB   delay {s.delay_s * 1000:.3f} ms   "
            f"polarity {s.polarity}   {load.made_of(channel)}"
        )
    lines += ["", "The correction belongs last in the monitoring chain, and off when you export a mix.", ""]
    return "\n".join(lines)
