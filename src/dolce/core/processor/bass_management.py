"""Which outputs each channel feeds, through which side of a crossover: bass management, sends and the common bass."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.dsp import delay_response, delayed, power_db
from dolce.core.processor.crossover import Crossover
from dolce.core.processor.settings import Convolution

EFFECTS = "LFE"  # the code of the channel that has no speaker of its own
BASS = "bass"  # what stands for the bass that outputs play together, where channels are listed


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
    """One way of a channel to an output: through one side of a crossover or none, with a gain in dB.

    Attributes
    ----------
    delay_s : float
        By which it waits, besides what the output itself waits.
    convolution : Convolution or None
        Its own filter. At another sample rate than the filter's the route is silent: what it would play else is
        another sound.
    """

    output: str
    crossover: Crossover | None = None
    side: Literal["high", "low"] = "low"
    gain_db: float = 0.0
    delay_s: float = 0.0
    convolution: Convolution | None = None

    @property
    def plays_bass(self) -> bool:
        """Whether what lies below a crossover goes this way."""
        return self.crossover is not None and self.side == "low"

    def response(self, at_hz: NDArray[np.float64], *, sample_rate_hz: float) -> NDArray[np.complex128]:
        """What it does to sound, shape (points,)."""
        total = delay_response(at_hz, self.delay_s) * 10 ** (self.gain_db / 20)
        if self.crossover is not None:
            total = total * self.crossover.response(self.side, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
        if self.convolution is not None:
            total = total * (self.convolution.response(at_hz) if self._fits(sample_rate_hz) else 0.0)
        return total

    def level_db(self, at_hz: NDArray[np.float64], *, sample_rate_hz: float) -> NDArray[np.float64]:
        """What it does to levels, shape (points,)."""
        level = np.full(at_hz.shape, self.gain_db)
        if self.crossover is not None:
            level = level + self.crossover.level_db(self.side, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
        if self.convolution is not None:
            of_filter = self.convolution.response(at_hz) if self._fits(sample_rate_hz) else np.zeros(at_hz.shape)
            level = level + power_db(np.abs(of_filter) ** 2)
        return level

    def played(self, samples: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
        """Samples behind it, as long as before, its gain left aside."""
        if self.crossover is not None:
            sections = self.crossover.sections(self.side, sample_rate_hz=sample_rate_hz)
            samples = scipy.signal.sosfilt(sections, samples)
        if self.convolution is not None:
            if not self._fits(sample_rate_hz):
                return np.zeros(samples.size)
            samples = scipy.signal.oaconvolve(samples, self.convolution.impulse)[: samples.size]
        return delayed(samples, self.delay_s * sample_rate_hz)

    def _fits(self, sample_rate_hz: float) -> bool:
        return self.convolution is None or self.convolution.sample_rate_hz == sample_rate_hz


@dataclass(frozen=True, slots=True, kw_only=True)
class CommonBass:
    """The bass of all channels as outputs play it together, each through a filter of its own.

    Attributes
    ----------
    convolutions : mapping of output to Convolution
    latency_s : float
        By which channels' own sound waits for it.
    """

    convolutions: Mapping[str, Convolution]
    latency_s: float = limited(0, 0.1, where="latency of the common bass", unit="s")

    def __post_init__(self) -> None:
        ranges(self)


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
    common : CommonBass or None
        What plays the bass instead of the subs alone, each with the same share.
    """

    crossover: Crossover
    subs: tuple[str, ...]
    by_channel: Mapping[str, Crossover | None] = field(default_factory=dict)
    low_pass: Crossover | None = None
    sub_gain_db: float | None = None
    effects: Effects | None = None
    sends: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    common: CommonBass | None = None

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
        """Where what is fed to a channel goes; of `BASS`, where the common bass goes."""
        if channel == BASS:
            return self._bass(None, 0.0)
        later_s = self.common.latency_s if self.common is not None else 0.0
        besides = [
            Route(output=output, gain_db=gain, delay_s=later_s) for output, gain in self.sends.get(channel, {}).items()
        ]
        if channel == EFFECTS:  # it has no output of its own
            effects = self.effects
            return besides if effects is None else besides + self._bass(effects.low_pass, effects.gain_db)
        crossover = None if channel in self.subs else self.of(channel)
        if crossover is None:
            return [Route(output=channel, delay_s=0.0 if channel in self.subs else later_s), *besides]
        return [
            Route(output=channel, crossover=crossover, side="high", delay_s=later_s),
            *besides,
            *self._bass(self.low_pass or crossover, 0.0),
        ]

    def _bass(self, low_pass: Crossover | None, gain_db: float) -> list[Route]:
        """To all that play bass."""
        if self.common is not None:
            return [
                Route(output=output, crossover=low_pass, gain_db=gain_db, convolution=convolution)
                for output, convolution in self.common.convolutions.items()
            ]
        share = -20 * math.log10(len(self.subs)) if self.sub_gain_db is None and self.subs else self.sub_gain_db or 0.0
        return [Route(output=sub, crossover=low_pass, gain_db=gain_db + share) for sub in self.subs]
