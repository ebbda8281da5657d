"""A complete set of settings under a name."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from dolce.core.checked import limited, ranges
from dolce.core.processor.crossover import Crossover
from dolce.core.processor.settings import ChannelSettings

EFFECTS = "LFE"  # the code of the channel that has no speaker of its own


@dataclass(frozen=True, slots=True, kw_only=True)
class Effects:
    """What the effects channel gets on its way to the subs.

    Attributes
    ----------
    low_pass : Crossover
    gain_db : float
        In its band it is played 10 dB louder than a main channel (common practice; SMPTE RP 200, from memory).
    """

    low_pass: Crossover = field(default_factory=lambda: Crossover(frequency_hz=120.0))
    gain_db: float = limited(-20, 20, where="gain of the effects channel", unit="dB", default=10.0)

    def __post_init__(self) -> None:
        ranges(self)

    @property
    def on_a_meter_db(self) -> float:
        """What a plain meter shows for noise in the effects channel beside the same noise in a main channel.

        Pink noise from 20 Hz to 20 kHz in the one, to the low-pass in the other: louder by its gain in its band, but
        of few octaves. About 4 dB for 120 Hz, as SMPTE RP 200 has it (from memory).
        """
        octaves = math.log2(self.low_pass.frequency_hz / 20.0) / math.log2(20_000.0 / 20.0)
        return self.gain_db + 10 * math.log10(octaves)


@dataclass(frozen=True, slots=True, kw_only=True)
class Route:
    """One way of a channel to an output: through one side of a crossover or none, with a gain in dB."""

    output: str
    crossover: Crossover | None = None
    side: Literal["high", "low"] = "low"
    gain_db: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class BassManagement:
    """Which outputs each channel feeds: what lies below a crossover goes from the main channels to the subs.

    Attributes
    ----------
    crossover : Crossover
        Of channels that have none of their own.
    subs : tuple of str
    by_channel : mapping of channel to Crossover or None
        Channels with another crossover; None for one that plays its whole range itself.
    low_pass : Crossover or None
        Of the subs, where it is another than the channel's.
    sub_gain_db : float or None
        By which a main's bass goes to each sub; None for shared among them, 20 lg n less each.
    effects : Effects or None
        The effects channel, on every sub with the same gain.
    sends : mapping of channel to mapping of output to dB
        Outputs that play a channel besides, over its whole range: one channel on two outputs, two on one.
    """

    crossover: Crossover
    subs: tuple[str, ...]
    by_channel: Mapping[str, Crossover | None] = field(default_factory=dict)
    low_pass: Crossover | None = None
    sub_gain_db: float | None = None
    effects: Effects | None = None
    sends: Mapping[str, Mapping[str, float]] = field(default_factory=dict)

    def of(self, channel: str) -> Crossover | None:
        """The crossover of a main channel; None where it plays its whole range."""
        return None if not self.subs else self.by_channel.get(channel, self.crossover)

    def adds_up_db(self, channels: Sequence[str]) -> dict[str, float]:
        """What each output gets if all channels play the same at full level, the effects channel too, in dB over one.

        The worst there is: all in phase, crossovers left aside.
        """
        total: dict[str, float] = {}
        for channel in (*channels, EFFECTS):
            for route in self.routes(channel):
                total[route.output] = total.get(route.output, 0.0) + 10 ** (route.gain_db / 20)
        return {output: 20 * math.log10(gain) for output, gain in total.items()}

    def routes(self, channel: str) -> list[Route]:
        """Where what is fed to a channel goes."""
        besides = [Route(output=output, gain_db=gain) for output, gain in self.sends.get(channel, {}).items()]
        share = -20 * math.log10(len(self.subs)) if self.sub_gain_db is None and self.subs else self.sub_gain_db or 0.0
        if channel == EFFECTS:  # it has no output of its own
            effects = self.effects
            return (
                besides
                if effects is None
                else besides
                + [Route(output=sub, crossover=effects.low_pass, gain_db=effects.gain_db + share) for sub in self.subs]
            )
        crossover = None if channel in self.subs else self.of(channel)
        if crossover is None:
            return [Route(output=channel), *besides]
        return [
            Route(output=channel, crossover=crossover, side="high"),
            *besides,
            *(Route(output=sub, crossover=self.low_pass or crossover, gain_db=share) for sub in self.subs),
        ]


@dataclass(frozen=True, slots=True, kw_only=True)
class Preset:
    """A complete set of settings under a name; channels that are not listed are neutral.

    `cut_db` turns all channels down alike, so that no boost can run out of range. `ours` is false for what somebody
    else left in the processor.
    """

    name: str
    cut_db: float = 0.0
    channels: Mapping[str, ChannelSettings] = field(default_factory=dict)
    bass: BassManagement | None = None
    ours: bool = True

    @property
    def corrects(self) -> bool:
        return any(s.corrects for s in self.channels.values())
