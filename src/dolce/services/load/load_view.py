"""What would be loaded, and what the processor holds."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.filters.convolution import DURATION_S
from dolce.core.job import Job, Round
from dolce.core.processor import (
    BassManagement,
    ChannelSettings,
    CommonBass,
    Preset,
    ProcessorLimits,
    UnsupportedSetting,
)
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Correction, OutputLoad, Outputs, output_loads, seat_levels_db
from dolce.services.load.contents import Tuned, inputs_of
from dolce.words.differences import output_words


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoadView:
    """What would be loaded, and what the processor holds.

    Attributes
    ----------
    settings : by output, as the content that is looked at has them
    contents : names of what can be loaded, by key
    slot, content : the preset and the content that are held against each other
    before : what presets held before they were loaded last, None for empty; only those of which something else is known
    rounds : all rounds of the job
    devices : kept processors, to whose limits files can be rounded
    heard_db : level of each output at the main seat by the round that the correction starts from, shape (points,)
    trouble : why the processor does not answer; empty where it does, or can't be asked
    """

    job: Job
    tuned: Tuned
    settings: dict[str, ChannelSettings]
    contents: dict[str, str]
    slot: str
    content: str
    cut_db: float
    before: dict[str, Preset | None]
    rounds: tuple[Round, ...]
    trouble: str
    loaded_is_current: dict[str, bool]
    broken: dict[str, tuple[UnsupportedSetting, ...]]
    devices: tuple[ProcessorLimits, ...] = ()
    heard_db: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)

    @property
    def correction(self) -> Correction:
        """The present one."""
        return self.tuned.correction

    @property
    def looked_at(self) -> Correction:
        """The one that the content is made of."""
        return self.tuned.of(self.content).correction

    @staticmethod
    def usual_content(job: Job, slot: str, names: Mapping[str, str]) -> str:
        """The content to load into a preset unless another is chosen: that which it holds; B is for comparing."""
        held = job.processor.presets.get(slot)
        return names.get(held.name if held else "", "aligned" if slot == "B" else "corrected")

    def differs(self, channel: str) -> str:
        """What the preset that is looked at holds otherwise for an output, in words."""
        return output_words(self.job.processor.presets.get(self.slot), channel, self.settings[channel])

    @property
    def to_turn(self) -> dict[str, tuple[tuple[str, str, str], ...]]:
        """Switches at the monitors' backs that the correction counts on, by channel: name, where it stood, where to."""
        return {channel: at.turned for channel, at in self.looked_at.switches.items() if at.turned}

    @property
    def cuts_differ(self) -> bool:
        """Whether presets are turned down by different amounts, so that one is louder than another."""
        return len({preset.cut_db for preset in self.job.processor.presets.values()}) > 1

    @property
    def foreign(self) -> tuple[tuple[str, Round | None, Round | None], ...]:
        """Processors of the chain that correct by themselves, each with the latest round without it and with it."""

        def latest(name: str, is_on: bool) -> Round | None:
            return next(
                (r for r in reversed(self.rounds) if r.state is not None and (name in r.state.by_themselves) == is_on),
                None,
            )

        return tuple(
            (processor.name, latest(processor.name, False), latest(processor.name, True))
            for processor in self.job.rig.others
        )

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
        return output_loads(
            self.outputs,
            inputs_of(self.job, self.outputs.bass),
            sample_rate_hz=self.job.rig.sample_rate_hz,
            cut_db=self.cut_db,
        )

    @property
    def outputs(self) -> Outputs:
        """What every output gets with the content that is looked at, and the routes to it."""
        return Outputs(settings=self.settings, bass=self.routing)

    @property
    def routing(self) -> BassManagement | None:
        """Routes of the content that is looked at."""
        return self.tuned.of(self.content).routing(corrected=self.content != "aligned")

    def common_bass_at(self, sample_rate_hz: int) -> CommonBass | None:
        """Filters of the common bass at a sample rate; None where the content has none."""
        tuned = self.tuned.of(self.content)
        at_rate = replace(tuned, job=replace(tuned.job, rig=tuned.job.rig.changed(sample_rate_hz=sample_rate_hz)))
        routing = at_rate.routing(corrected=self.content != "aligned")
        return routing.common if routing is not None else None

    @property
    def common_bass_stands(self) -> bool:
        """Whether the common bass still stands on the trims, delays and crossovers of the content."""
        stands_on = self.tuned.of(self.content).stands_on
        return stands_on is None or stands_on.common_bass_stands

    @property
    def seat_levels(self) -> dict[str, tuple[float, float]]:
        """Full-scale pink noise in each channel at the main seat without processing and with it; where it is known.

        dB SPL where the microphone is calibrated, else relative to full scale at its input.
        """
        offset = self.job.rig.levels.full_scale_spl_db or 0.0
        outputs, rate = self.outputs, self.job.rig.sample_rate_hz
        subs = outputs.bass.subs if outputs.bass else ()
        found = {
            channel: seat_levels_db(
                outputs, channel, self.heard_db, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate, cut_db=self.cut_db
            )
            for channel in self.job.channels
            if channel not in subs
        }
        return {
            channel: (range_hz[0] + offset, range_hz[1] + offset)
            for channel, range_hz in found.items()
            if range_hz is not None
        }

    def crossovers(self, channel: str) -> str:
        """Crossovers that an output has itself, or gets by bass management, in words; empty for none."""
        channel_settings = self.settings[channel]
        bass = self.routing
        crossovers = [
            f"from {crossover.frequency_hz:g} Hz"
            for crossover in (
                channel_settings.high_pass,
                bass.of(channel) if bass and channel not in bass.subs else None,
            )
            if crossover is not None
        ]
        crossovers += (
            [f"to {channel_settings.low_pass.frequency_hz:g} Hz"] if channel_settings.low_pass is not None else []
        )
        if bass is not None and channel in bass.subs:
            highest = max(
                (
                    crossover.frequency_hz
                    for other in self.job.channels
                    if other not in bass.subs and (crossover := bass.of(other)) is not None
                ),
                default=0.0,
            )
            top = bass.low_pass.frequency_hz if bass.low_pass else highest
            crossovers += [f"bass to {top:g} Hz"] if top else []
        return ", ".join(crossovers)

    def made_of(self, channel: str) -> str:
        """What corrects an output, in a few words."""
        if self.content == "aligned":
            return "none"
        taps = self.looked_at.convolutions.get(channel)
        if taps is not None:
            return f"convolution, {1000 * taps.duration_s:.0f} ms"
        free, fixed = self.looked_at.counts(channel)
        return f"{free} and {fixed} graphic bands" if fixed else f"{free} bands"

    @property
    def impulse_words(self) -> str:
        """Phase and length of the impulse responses of the package."""
        return impulse_words(self.correction, sample_rate_hz=self.job.rig.sample_rate_hz)


def impulse_words(correction: Correction, *, sample_rate_hz: int) -> str:
    """Phase and length of the impulse responses, and what they delay."""
    kinds = {
        (convolution.phase, convolution.duration_s, convolution.delay_s(sample_rate_hz=sample_rate_hz))
        for convolution in correction.convolutions.values()
    }
    if not kinds or len(correction.convolutions) < len(correction.channels):
        kinds.add(("minimum", DURATION_S, 0.0))
    return (
        "; ".join(
            f"{phase} phase, {seconds:g} s long at every rate" + (f", later by {1000 * later:.1f} ms" if later else "")
            for phase, seconds, later in sorted(kinds)
        )
        + "."
    )
