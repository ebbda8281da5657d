"""What a preset can be made of: the alignment alone, or with the present correction or a kept one."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from dolce.core.cache import cache
from dolce.core.correction import headroom_of
from dolce.core.filters import BandFilter, convolution_filter
from dolce.core.filters.convolution import DURATION_S
from dolce.core.job import Job
from dolce.core.processor import EFFECTS, BassManagement, ChannelSettings, Convolution, Preset
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Alignment, Correction, Outputs, headroom_cut_db, output_loads, settings_of
from dolce.errors import Conflict

CONTENTS = {
    "corrected": "Aligned and corrected",
    "convolved": "Aligned and corrected, by convolution",
    "aligned": "Aligned only",
}


_VERSION = "version-"
_WITH_COMMON_BASS = ", common bass"


def contents_of(versions: Mapping[int, Correction]) -> dict[str, str]:
    """What can be loaded, by key: the three of the present correction, and every kept one by its name."""
    return {**CONTENTS, **{f"{_VERSION}{number}": f"Kept: {kept.name}" for number, kept in versions.items()}}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Tuned:
    """A job's correction and its alignment, as outputs get them; and the corrections that were kept, by number."""

    job: Job
    correction: Correction
    alignment: Alignment | None
    versions: Mapping[int, Correction] = field(default_factory=dict)

    def of(self, content: str) -> "Tuned":
        """The same with the correction that a content is made of."""
        if not content.startswith(_VERSION):
            return self
        return replace(self, correction=self.versions[int(content.removeprefix(_VERSION))])

    @property
    def stands_on(self) -> Alignment | None:
        """The alignment that outputs get: the one that the bands stand on; without bands the present one."""
        return self.correction.alignment if self.correction.found else self.alignment

    @property
    def settings(self) -> dict[str, ChannelSettings]:
        """What every output gets, bands included."""
        return {
            channel: settings_of(
                self.stands_on or Alignment(),
                self.correction,
                channel,
                sample_rate_hz=self.job.rig.sample_rate_hz,
                device=self.job.limits,
            )
            for channel in self.job.channels
        }

    @property
    def cut_db(self) -> float:
        """The headroom cut that all contents of the correction get alike, so that comparing them is fair."""
        return max(
            cut_db(self.job, self.settings, self.routing(corrected=True)),
            cut_db(self.job, self.aligned_only, self.routing(corrected=False)),
        )

    def routing(self, *, corrected: bool) -> BassManagement | None:
        """Routes, with the filters of the common bass at the rate of the job, with the correction in outputs or not."""
        if self.stands_on is None:
            return None
        rate = self.job.rig.sample_rate_hz
        return self.correction.routing_at(self.stands_on, rate) if corrected else self.stands_on.routing_at(rate)

    @property
    def name_ending(self) -> str:
        """What the names of its presets end in."""
        return _WITH_COMMON_BASS if self.stands_on is not None and self.stands_on.common_bass is not None else ""

    @property
    def contents_by_name(self) -> dict[str, str]:
        """Keys of contents by the names of presets that are made of them."""
        return {name + self.of(key).name_ending: key for key, name in contents_of(self.versions).items()}

    @property
    def aligned_only(self) -> dict[str, ChannelSettings]:
        """What every output gets without the correction."""
        return {channel: (self.stands_on or Alignment()).settings(channel) for channel in self.job.channels}


def inputs_of(job: Job, bass: BassManagement | None) -> list[str]:
    """What can be fed: every channel, and the effects channel where something plays it."""
    return [*job.channels, *((EFFECTS,) if bass is not None and bass.effects is not None else ())]


def cut_db(job: Job, settings: Mapping[str, ChannelSettings], bass: BassManagement | None) -> float:
    """What all outputs are turned down by, so that no single input at full scale exceeds full scale at any output."""
    return headroom_cut_db(
        output_loads(
            Outputs(settings=settings, bass=bass),
            inputs_of(job, bass),
            sample_rate_hz=job.rig.sample_rate_hz,
            cut_db=0.0,
        )
    )


@cache(256)
def most_db(settings: ChannelSettings, sample_rate_hz: int) -> float:
    """The largest gain of an output's filters, at least 0 dB."""
    if settings.convolution is None:
        return headroom_of(settings.filters, sample_rate_hz=sample_rate_hz).gain_db
    return max(0.0, float(settings.correction_level_db(ANALYSIS_GRID_HZ, sample_rate_hz=sample_rate_hz).max()))


def would_be(content: str, tuned: Tuned) -> Preset | None:
    """The preset as it would be loaded now; None where the processor could not hold it any more."""
    try:
        return preset_of(content, tuned)
    except Conflict:
        return None


def preset_of(content: str, tuned: Tuned) -> Preset:
    """A preset of a content. All of the present correction are turned down alike, so that comparing them is fair."""
    names, tuned = contents_of(tuned.versions), tuned.of(content)
    job, settings = tuned.job, tuned.settings
    if content == "corrected" or content.startswith(_VERSION):
        aligned = settings
    elif content == "convolved":
        aligned = {
            c: replace(s, filters=(), convolution=s.convolution or _convolution(job, s.filters))
            for c, s in settings.items()
        }
    else:
        aligned = tuned.aligned_only
    routing = tuned.routing(corrected=content != "aligned")
    return Preset(name=names[content] + tuned.name_ending, cut_db=tuned.cut_db, channels=aligned, bass=routing)


@cache(32)
def _convolved(filters: tuple[BandFilter, ...], sample_rate_hz: int, most_taps: int) -> Convolution:
    """Minimum phase, no more taps than the processor has."""
    seconds = min(DURATION_S, most_taps / sample_rate_hz)
    impulse = convolution_filter(filters, sample_rate_hz=sample_rate_hz, duration_s=seconds)
    return Convolution.of(impulse, sample_rate_hz=sample_rate_hz)


def _convolution(job: Job, filters: tuple[BandFilter, ...]) -> Convolution | None:
    if not filters:
        return None
    if job.limits is None or not job.limits.taps:
        raise Conflict(
            f"{job.limits.name if job.limits else 'this processor'} has no convolution.",
            where="load",
            remedy="Type its taps on the Rig page under Processor, or load the bands.",
        )
    rate = job.rig.sample_rate_hz
    return _convolved(filters, rate, job.limits.taps)
