"""What brings the channels level, in time and in phase: one value, every change makes a new one."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Literal

from dolce.core import checked
from dolce.core.alignment import LevelOptions
from dolce.core.checked import limited, ranges
from dolce.core.processor import AllPass, BassManagement, ChannelSettings, Crossover, Route
from dolce.core.subs import SubGroup
from dolce.core.tuning.common_bass import FoundBass, OutputCorrection
from dolce.core.tuning.seat_weighting import SeatWeighting

_SAME_DB, _SAME_S = 0.04, 2e-5


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelAlignment:
    """One output: trim -40 to 12 dB, delay 0 to 0.2 s, polarity, its side of a crossover, all-passes."""

    trim_db: float = limited(-40, 12, where="trim", unit="dB", default=0.0)
    delay_s: float = limited(0, 0.2, where="delay", unit="s", default=0.0)
    polarity: Literal["normal", "inverted"] = "normal"
    high_pass: Crossover | None = None
    low_pass: Crossover | None = None
    all_pass: tuple[AllPass, ...] = ()

    def __post_init__(self) -> None:
        ranges(self)

    @property
    def settings(self) -> ChannelSettings:
        """As a processor's output has it, without a correction."""
        return ChannelSettings(
            trim_db=self.trim_db,
            delay_s=self.delay_s,
            polarity=self.polarity,
            high_pass=self.high_pass,
            low_pass=self.low_pass,
            all_pass=self.all_pass,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Alignment:
    """Trim, delay, polarity, crossover and routing of all channels.

    Attributes
    ----------
    round_id : int or None
        The round that it was read from: kept, never guessed.
    channels : mapping of channel to ChannelAlignment
    routing : BassManagement or None
        Which channels are high-passed, and the subs that play their bass.
    subs_together : bool
        Whether the subs play as one: each is then matched 20 lg n lower, so that together they read as one channel.
    seat_weighting : Seat weighting or None
        Seats whose levels are matched; None for the main seat's.
    levels : LevelOptions
        How levels are matched.
    subs : SubGroup or None
        What the subs get as a group; None where each stands for itself.
    common_bass : FoundBass or None
        Filters of the bass that subs, and main channels that reach low enough, play together.
    name, note : str
    """

    round_id: int | None = None
    channels: Mapping[str, ChannelAlignment] = field(default_factory=dict)
    routing: BassManagement | None = None
    subs_together: bool = True
    seat_weighting: SeatWeighting | None = None
    levels: LevelOptions = field(default_factory=LevelOptions)
    subs: SubGroup | None = None
    common_bass: FoundBass | None = None
    name: str = ""
    note: str = ""

    def __post_init__(self) -> None:
        checked.text(self.name, longest=60, where="name of the alignment")
        checked.text(self.note, longest=1000, where="note")

    def routing_at(
        self, sample_rate_hz: int, corrections: Mapping[str, OutputCorrection] | None = None
    ) -> BassManagement | None:
        """The routing as a processor gets it at a sample rate, with the filters of the common bass.

        `corrections` are those of outputs (`FoundBass.at_rate`).
        """
        if self.routing is None or self.common_bass is None:
            return self.routing
        return replace(self.routing, common=self.common_bass.at_rate(sample_rate_hz, corrections))

    @property
    def common_bass_stands(self) -> bool:
        """Whether the common bass, where there is one, still stands on the trims, delays and crossovers chosen."""
        found = self.common_bass
        return found is None or (
            self.routing is not None
            and self.routing.crossover.frequency_hz == found.request.hand_over_hz
            and not self.routing.by_channel
            and all(self.settings(output) == settings for output, settings in found.settings.items())
        )

    def routes(self, channel: str, *, sample_rate_hz: int) -> list[Route]:
        """Where what is fed to a channel goes."""
        routing = self.routing_at(sample_rate_hz)
        return [Route(output=channel)] if routing is None else routing.routes(channel)

    def settings(self, channel: str) -> ChannelSettings:
        """What an output gets; neutral where nothing was chosen for it."""
        return self.channels.get(channel, ChannelAlignment()).settings


@dataclass(frozen=True, slots=True, kw_only=True)
class OutputChange:
    """What one alignment gives an output more than another: dB, s, and whether it is turned round."""

    channel: str
    trim_db: float
    delay_s: float
    turned: bool


def changed_outputs(before: Alignment, after: Alignment) -> list[OutputChange]:
    """Outputs of both that differ by more than half a step of trims or a sample; those that one lacks are left out."""
    found = []
    for channel, now in after.channels.items():
        was = before.channels.get(channel)
        if was is None:
            continue
        trim_db, delay_s, turned = now.trim_db - was.trim_db, now.delay_s - was.delay_s, now.polarity != was.polarity
        if abs(trim_db) > _SAME_DB or abs(delay_s) > _SAME_S or turned:
            found.append(OutputChange(channel=channel, trim_db=trim_db, delay_s=delay_s, turned=turned))
    return found
