"""What a correction starts from, stands on, aims at and does, as one value; every edit makes a new one."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.core.correction import (
    MEAN_BAND_HZ,
    Curve,
    FilterType,
    FoundConvolution,
    Limits,
    Overruled,
    Preference,
    SwitchesAt,
    Target,
)
from dolce.core.filters import BandFilter
from dolce.core.levels import SUB_LEVEL_BAND_HZ
from dolce.core.processor import BassManagement, ChannelSettings, Preset, ProcessorLimits
from dolce.core.room import SUB_CODES, partner_of
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.common_bass import OutputCorrection
from dolce.core.tuning.seat_weighting import SeatWeighting
from dolce.errors import Conflict, InvalidValue, NotFound

MOST_BANDS = 93  # a graphic equaliser and free ones besides
ANCHOR_RANGE_HZ = (20.0, 20_000.0)
# A sub is corrected where it plays: nothing above its crossover.
SUB_RANGE_HZ = (20.0, 120.0)


Anchor = Literal["band", "fronts", "hand"]  # what a target is level-matched to: a band, the front channels, by hand
ANCHORS: tuple[Anchor, ...] = ("band", "fronts", "hand")


@dataclass(frozen=True, slots=True, kw_only=True)
class Band:
    """A band that can be switched off, or locked: then it stays as it is when filters are found.

    `id` names it within its correction, whatever is added or removed beside it; 0 until that has given it one. `fixed`
    is one of a graphic equaliser: only its gain moves.
    """

    filter: BandFilter
    on: bool = True
    id: int = 0
    locked: bool = False
    fixed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class CorrectionSettings:
    """What channels are corrected toward, within which limits, by what."""

    target: Target = field(default_factory=Target)
    limits: Limits = field(default_factory=Limits)
    filter_type: FilterType = field(default_factory=FilterType)


@dataclass(frozen=True, slots=True, kw_only=True)
class Correction:
    """What it starts from and stands on, what it aims at and how.

    Attributes
    ----------
    anchor : "band", "fronts" or "hand"
        Whether the target's level follows from a band of each channel's response, from that of the fronts together, or
        is typed.
    anchor_band_hz : (float, float)
    anchor_level_db : float
        Used with "hand": dB relative to the stimulus.
    linked : bool
        Whether left and right of each pair get the same bands.
    round_id : int or None
        The round that it starts from: kept, never guessed.
    alignment : Alignment or None
        The very version of the alignment that it stands on.
    seat_weighting : Seat weighting
        The seats that it is for.
    bands : mapping of channel to tuple of Band
    trims_db : mapping of channel to dB
        On top of the alignment's: what makes up for the bands where channels are matched.
    name : str
    filter_type : Means
        By what channels are corrected.
    by_channel : mapping of channel to Aim
        Channels with a target, limits and means of their own.
    preference : Preference or None
        On top of every target.
    convolutions : mapping of channel to FoundConvolution
    overruled : mapping of channel to tuple of Overruled
        Verdicts that a calibrator gave.
    switches : mapping of channel to SwitchesAt
        Those at the monitors' backs, as they were measured and as they shall stand.
    maximum_levels_db : mapping of channel to mapping of octave to dB SPL
        How loud each plays cleanly at the main seat, as typed.
    found_for : Seat weighting or None
        The seat weighting for which the filters were found; None where they were not, or by an older version.
    fewer : mapping of channel to (number, share)
        What fewer filters would take away of the deviation that the most of them do, as the last search found it.
    note : str
    last_band_id : int
        The highest that was ever given: no later band is taken for an earlier one.
    """

    target: Target = field(default_factory=Target)
    limits: Limits = field(default_factory=Limits)
    anchor: Anchor = "band"
    anchor_band_hz: tuple[float, float] = MEAN_BAND_HZ
    anchor_level_db: float = limited(-120, 60, where="level", unit="dB", default=0.0)
    linked: bool = True
    round_id: int | None = None
    alignment: Alignment | None = None
    seat_weighting: SeatWeighting = field(default_factory=SeatWeighting)
    bands: Mapping[str, tuple[Band, ...]] = field(default_factory=dict)
    trims_db: Mapping[str, float] = field(default_factory=dict)
    name: str = ""
    filter_type: FilterType = field(default_factory=FilterType)
    by_channel: Mapping[str, CorrectionSettings] = field(default_factory=dict)
    preference: Preference | None = None
    convolutions: Mapping[str, FoundConvolution] = field(default_factory=dict)
    overruled: Mapping[str, tuple[Overruled, ...]] = field(default_factory=dict)
    switches: Mapping[str, SwitchesAt] = field(default_factory=dict)
    maximum_levels_db: Mapping[str, Mapping[float, float]] = field(default_factory=dict)
    note: str = ""
    last_band_id: int = 0
    found_for: SeatWeighting | None = None
    fewer: Mapping[str, tuple[tuple[int, float], ...]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._name_bands()
        checked.text(self.name, longest=60, where="name of the correction")
        checked.text(self.note, longest=1000, where="note")
        low, high = self.anchor_band_hz
        for value, where in ((low, "level from"), (high, "level to")):
            checked.within(value, low=ANCHOR_RANGE_HZ[0], high=ANCHOR_RANGE_HZ[1], where=where, unit="Hz")
        if high < 1.2 * low:
            raise InvalidValue(
                f"{low:g} to {high:g} Hz is upside down or too narrow.",
                where="level to",
                remedy=f"End at {1.2 * low:.0f} Hz or above.",
            )
        ranges(self)

    def _name_bands(self) -> None:
        """Give ids to bands that have none; rows of bands that are equal get equal ones, as those of a pair are."""
        last = max([self.last_band_id, *(band.id for bands in self.bands.values() for band in bands)])
        named: dict[tuple[Band, ...], tuple[Band, ...]] = {}
        for bands in self.bands.values():
            if bands in named:
                continue
            fresh = []
            for band in bands:
                last += band.id == 0
                fresh.append(band if band.id else replace(band, id=last))
            named[bands] = tuple(fresh)
        object.__setattr__(self, "bands", {channel: named[bands] for channel, bands in self.bands.items()})
        object.__setattr__(self, "last_band_id", last)

    def stands_on(self, alignment: Alignment | None) -> bool:
        """Whether an alignment is the one that this correction stands on; False as soon as it has moved on."""
        return self.alignment == alignment

    def correction_settings(self, channel: str) -> CorrectionSettings:
        """What a channel is corrected toward: its own, or that of all."""
        return self.by_channel.get(channel) or CorrectionSettings(
            target=self.target, limits=self.limits, filter_type=self.filter_type
        )

    def with_curve(self, channel: str, curve: Curve | None) -> "Correction":
        """The same with another curve as target: of a channel that has an aim of its own, else of all others."""
        settings = self.by_channel.get(channel)
        if settings is None:
            return replace(self, target=replace(self.target, curve=curve))
        return replace(
            self,
            by_channel={**self.by_channel, channel: replace(settings, target=replace(settings.target, curve=curve))},
        )

    def target_db(self, channel: str, at_hz: NDArray) -> NDArray[np.float64]:
        """A channel's target with the preference on top, relative to its own level, shape as given."""
        level = self.correction_settings(channel).target.level_db(at_hz)
        return level if self.preference is None else level + self.preference.level_db(at_hz)

    def counts(self, channel: str) -> tuple[int, int]:
        """How many free and how many fixed bands of a channel are switched on."""
        bands = [band for band in self.bands.get(channel, ()) if band.on]
        fixed = sum(band.fixed for band in bands)
        return len(bands) - fixed, fixed

    @property
    def channels(self) -> tuple[str, ...]:
        """Those that have filters, or were found to need none."""
        return tuple(dict.fromkeys((*self.bands, *self.convolutions)))

    @property
    def found(self) -> bool:
        """Whether there are filters, or channels that were found to need none."""
        return bool(self.bands) or bool(self.convolutions)

    def held_by(self, preset: Preset) -> bool:
        """Whether a preset of ours corrects by these very bands or convolutions."""

        def same(channel: str) -> bool:
            held = preset.channels.get(channel, ChannelSettings())
            return held.convolution is not None or held.filters == self.filters(channel)

        return preset.ours and preset.corrects and all(same(channel) for channel in self.channels)

    def filters(self, channel: str) -> tuple[BandFilter, ...]:
        """The bands of a channel that are switched on."""
        return tuple(band.filter for band in self.bands.get(channel, ()) if band.on)

    @property
    def found_for_others(self) -> SeatWeighting | None:
        """The seat weighting that the filters were found for, where it is another than that of the correction."""
        return (
            self.found_for
            if self.found and self.found_for is not None and self.found_for != self.seat_weighting
            else None
        )

    def routing_at(self, alignment: Alignment, sample_rate_hz: int) -> BassManagement | None:
        """The routing of an alignment with this correction in its outputs."""
        found = alignment.common_bass
        corrections = {
            output: OutputCorrection(trim_db=self.trims_db.get(output, 0.0), filters=self.filters(output))
            for output in (found.filters.outputs if found is not None else ())
        }
        return alignment.routing_at(sample_rate_hz, corrections)

    def level_band_hz(self, channel: str) -> tuple[float, float]:
        """The band by which a channel's target gets its level."""
        return SUB_LEVEL_BAND_HZ if channel in SUB_CODES else self.anchor_band_hz

    def limits_for(self, channel: str, device: ProcessorLimits | None = None) -> Limits:
        """The limits, drawn in to what the processor can do, and for a sub to where it plays.

        A sub whose limits are those of all channels begins where subs do: the range of main channels is not its own.
        """
        limits = self.correction_settings(channel).limits
        limits = limits if device is None else device.narrowed(limits)
        if channel not in SUB_CODES:
            return limits
        low, high = SUB_RANGE_HZ
        start = min(max(limits.from_hz, low), high / 2) if channel in self.by_channel else low
        return replace(limits, from_hz=start, to_hz=min(max(limits.to_hz, 1.5 * start), high))

    def linked_with(self, channel: str) -> tuple[str, ...]:
        """Channels that get what this one gets: a partner where pairs are linked, the others of subs that are one."""
        group = self.alignment.subs if self.alignment else None
        if group is not None and channel in group.settings:
            return tuple(sub for sub in group.settings if sub != channel)
        partner = partner_of(channel) if self.linked else None
        return (partner,) if partner else ()

    def alike(self, channel: str) -> list[str]:
        """The channels with bands that get what this one gets, itself the first."""
        return [channel, *(other for other in self.linked_with(channel) if other in self.bands)]

    def with_bands(self, channel: str, bands: tuple[Band, ...]) -> "Correction":
        """The same with other bands for a channel, and for those that are linked with it."""
        if len(bands) > MOST_BANDS:
            raise Conflict(f"{len(bands)} bands are more than {MOST_BANDS}.", remedy="Remove one first.")
        return self._of_bands(dict.fromkeys(self.alike(channel), bands))

    def with_copies(self, channel: str, others: Sequence[str]) -> "Correction":
        """The same with a channel's bands for others too, each with ids of their own."""
        copied = tuple(replace(band, id=0) for band in self.bands.get(channel, ()))
        return self._of_bands(dict.fromkeys(others, copied))

    def _of_bands(self, bands: Mapping[str, tuple[Band, ...]]) -> "Correction":
        """With other bands for some channels: what has bands does not convolve."""
        return replace(
            self,
            bands={**self.bands, **bands},
            convolutions={c: convolution for c, convolution in self.convolutions.items() if c not in bands},
        )

    def with_pairs_alike(self) -> "Correction":
        """The same with one of each pair, the first by its code, standing for both."""
        changed = self
        for name in sorted(self.bands):
            changed = changed.with_bands(name, changed.bands[name])
        convolutions = dict(changed.convolutions)
        for name in sorted(convolutions):
            convolutions |= {other: convolutions[name] for other in changed.linked_with(name) if other in convolutions}
        return replace(changed, convolutions=convolutions)

    def wait_s(self, channel: str, *, sample_rate_hz: int, most_taps: int | None = None) -> float:
        """How long a channel waits for the latest convolution, so that all stay together.

        Of convolutions as they are at a rate, cut to what a device holds (`most_taps`).
        """
        delays = {
            name: convolution.delay_s(sample_rate_hz=sample_rate_hz, most_samples=most_taps)
            for name, convolution in self.convolutions.items()
        }
        return max(delays.values(), default=0.0) - delays.get(channel, 0.0)

    def overruling(self, channel: str, region: Overruled) -> "Correction":
        """The same with a verdict of the calibrator's own; what was overruled there before gives way."""
        found = dict(self.overruled)
        for name in (channel, *self.linked_with(channel)):
            others = (o for o in found.get(name, ()) if o.to_hz <= region.from_hz or o.from_hz >= region.to_hz)
            found[name] = tuple(sorted((*others, region), key=lambda o: o.from_hz))
        return replace(self, overruled=found)

    def with_switches(self, channel: str, at: SwitchesAt | None) -> "Correction":
        """The same with switches of a monitor, and of its partner where pairs are linked; None for no switches."""
        names = (channel, *((partner,) if self.linked and (partner := partner_of(channel)) else ()))
        kept = {name: position for name, position in self.switches.items() if name not in names}
        return replace(self, switches=kept if at is None else {**kept, **dict.fromkeys(names, at)})

    def switches_db(self, channel: str, at_hz: NDArray) -> NDArray[np.float64]:
        """What turning a monitor's switches changes of what was measured, shape as given."""
        at = self.switches.get(channel)
        return np.zeros(at_hz.shape) if at is None else at.change_db(at_hz)

    def following_evidence(self, channel: str, at_hz: float) -> "Correction":
        """The same without what was overruled at a frequency."""
        found = dict(self.overruled)
        for name in (channel, *self.linked_with(channel)):
            found[name] = tuple(o for o in found.get(name, ()) if not o.from_hz <= at_hz <= o.to_hz)
        return replace(self, overruled={name: rows for name, rows in found.items() if rows})

    def place_of_band(self, channel: str, band_id: int) -> int:
        """Where a band stands in the row of its channel, or NotFound."""
        place = next((k for k, band in enumerate(self.bands.get(channel, ())) if band.id == band_id), None)
        if place is None:
            raise NotFound(
                f"this band of {channel} is gone: it was removed or found anew since.",
                where="bands",
                remedy="Here are those that are there now.",
            )
        return place

    def band(self, channel: str, band_id: int) -> Band:
        """One band, or NotFound."""
        place = self.place_of_band(channel, band_id)
        return self.bands[channel][place]

    def with_band(self, channel: str, band_id: int, band: Band | None) -> "Correction":
        """The same with one band replaced, or removed where `band` is None."""
        place = self.place_of_band(channel, band_id)
        bands = self.bands[channel]
        new = () if band is None else (replace(band, id=band_id),)
        return self.with_bands(channel, (*bands[:place], *new, *bands[place + 1 :]))
