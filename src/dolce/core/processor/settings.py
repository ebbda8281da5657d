"""Settings per channel, presets, and the sound that comes out."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import fft, signal

from dolce.core import checked
from dolce.core.filters import PeakingFilter, chain_level_db, chain_samples
from dolce.core.levels import power_db
from dolce.errors import InvalidValue

BYPASS = "bypass"
DIM_DB = 20.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Crossover:
    """One side of a crossover: 12 or 24 dB per octave, 20 Hz to 20 kHz.

    Attributes
    ----------
    kind : "linkwitz-riley" or "butterworth"
    order : 2 or 4
    """

    frequency_hz: float
    kind: Literal["linkwitz-riley", "butterworth"] = "linkwitz-riley"
    order: Literal[2, 4] = 4

    def __post_init__(self) -> None:
        checked.within(self.frequency_hz, low=20, high=20_000, where="crossover", unit="Hz")
        if self.kind not in ("linkwitz-riley", "butterworth") or self.order not in (2, 4):
            raise InvalidValue(f"{self.kind} of order {self.order} is not offered.", where="crossover",
                               remedy="Choose linkwitz-riley or butterworth, order 2 or 4.")

    def sections(self, side: Literal["high", "low"], *, sample_rate_hz: float) -> NDArray[np.float64]:
        """Second-order sections, shape (sections, 6). A Linkwitz-Riley is a Butterworth of half its order, twice.

        At order 2 both halves are 180 degrees apart at the corner: the high side is turned over, so that they add up.

        References
        ----------
        S. H. Linkwitz, "Active crossover networks for noncoincident drivers", JAES 24, 2-8 (1976).
        """
        order = self.order if self.kind == "butterworth" else self.order // 2
        half = signal.butter(order, self.frequency_hz, side, fs=sample_rate_hz, output="sos")
        sections = half if self.kind == "butterworth" else np.concatenate([half, half])
        if self.order == 2 and side == "high":
            sections[0, :3] *= -1
        return sections


@dataclass(frozen=True, slots=True, kw_only=True)
class Convolution:
    """An impulse response that fits one sample rate; a processor at another rate leaves it out."""

    sample_rate_hz: int
    taps: tuple[float, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelSettings:
    """One output: trim -40 to 12 dB, delay 0 to 0.2 s, polarity, crossovers, peaking bands or a convolution."""

    trim_db: float = 0.0
    delay_s: float = 0.0
    polarity: Literal["normal", "inverted"] = "normal"
    filters: tuple[PeakingFilter, ...] = ()
    high_pass: Crossover | None = None
    low_pass: Crossover | None = None
    convolution: Convolution | None = None

    def __post_init__(self) -> None:
        checked.within(self.trim_db, low=-40, high=12, where="trim", unit="dB")
        checked.within(self.delay_s, low=0, high=0.2, where="delay", unit="s")

    def correction_level_db(self, at_hz: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
        """What bands and convolution do to the level at frequencies below half the sample rate, in dB."""
        level = chain_level_db(self.filters, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
        if self.convolution is not None and self.convolution.sample_rate_hz == sample_rate_hz:
            _, response = signal.freqz(np.array(self.convolution.taps), worN=at_hz, fs=sample_rate_hz)
            level = level + power_db(np.abs(response) ** 2)
        return level

    @property
    def corrects(self) -> bool:
        """Whether bands or a convolution change the response."""
        return bool(self.filters) or self.convolution is not None

    @property
    def is_neutral(self) -> bool:
        return self == ChannelSettings()


@dataclass(frozen=True, slots=True, kw_only=True)
class BassManagement:
    """What lies below a crossover goes from the main channels to the subs, shared among them."""

    crossover: Crossover
    subs: tuple[str, ...]


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


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorState:
    """What the processor holds, which preset ("A", "B") plays ("bypass" plays none), and what is shut or turned down.

    Attributes
    ----------
    muted : tuple of str
        Channels that are shut.
    solo : str
        The only channel that is open; empty for all.
    dimmed : bool
        Everything 20 dB down.
    slate : tuple of str
        What the calibrator ticked as neutral in devices that can't be read (keys of `dolce.core.rig.SLATE`).
    """

    active: str = BYPASS
    presets: Mapping[str, Preset] = field(default_factory=dict)
    muted: tuple[str, ...] = ()
    solo: str = ""
    dimmed: bool = False
    slate: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if self.active != BYPASS and self.active not in self.presets:
            raise InvalidValue(f"preset {self.active} is empty.", where="processor", remedy="Load it first.")

    def settings_for(self, channel: str) -> ChannelSettings:
        """What the channel gets right now; neutral when bypassed."""
        if self.active == BYPASS:
            return ChannelSettings()
        preset = self.presets[self.active]
        own = preset.channels.get(channel, ChannelSettings())
        return replace(own, trim_db=max(-40.0, own.trim_db - preset.cut_db))

    def is_open(self, channel: str) -> bool:
        """Whether the channel sounds: neither muted nor left out by a solo."""
        return channel not in self.muted and self.solo in ("", channel)

    def routes(self, channel: str) -> list[tuple[str, tuple[Crossover, str] | None, float]]:
        """Where sound fed to a channel goes: (channel that sounds, crossover and side on the way, gain in dB).

        Without bass management only to itself.
        """
        bass = None if self.active == BYPASS else self.presets[self.active].bass
        if bass is None or channel in bass.subs or not bass.subs:
            return [(channel, None, 0.0)]
        share = -20 * float(np.log10(len(bass.subs)))
        return [(channel, (bass.crossover, "high"), 0.0), *((sub, (bass.crossover, "low"), share) for sub in bass.subs)]

    @property
    def cut_db(self) -> float:
        """How much everything is turned down right now."""
        return 0.0 if self.active == BYPASS else self.presets[self.active].cut_db

    @property
    def corrects(self) -> bool:
        """Whether a preset of ours with bands or convolutions plays."""
        preset = None if self.active == BYPASS else self.presets[self.active]
        return preset is not None and preset.ours and preset.corrects

    @property
    def is_neutral(self) -> bool:
        """Whether it plays everything as it comes."""
        preset = None if self.active == BYPASS else self.presets[self.active]
        silent = self.muted or self.solo or self.dimmed
        return not silent and (preset is None or (preset.bass is None and not preset.cut_db
                                                  and all(s.is_neutral for s in preset.channels.values())))

    def sounds_like(self, other: "ProcessorState", channels: Sequence[str]) -> bool:
        """Whether both do the same to every channel right now, as far as it can be known."""
        def bass(state: "ProcessorState") -> BassManagement | None:
            return None if state.active == BYPASS else state.presets[state.active].bass

        return (bass(self) == bass(other) and self.dimmed == other.dimmed and set(self.slate) == set(other.slate)
                and all(self.settings_for(channel) == other.settings_for(channel)
                        and self.is_open(channel) == other.is_open(channel) for channel in channels))

    @property
    def description(self) -> str:
        """For the header and the name of a round: "bypassed" or "A, Aligned and corrected", and what is shut."""
        words = ["bypassed" if self.active == BYPASS else f"{self.active}, {self.presets[self.active].name}"]
        if self.dimmed:
            words.append("dimmed")
        if self.solo:
            words.append(f"solo {self.solo}")
        if self.muted:
            words.append(f"muted {', '.join(self.muted)}")
        return ", ".join(words)

    @property
    def full_description(self) -> str:
        """The same with what is ticked, to tell two states apart."""
        ticked = f", {len(self.slate)} points of the blank slate ticked" if self.slate else ""
        return self.description + ticked


def processed(samples: NDArray[np.float64], settings: ChannelSettings, *, sample_rate_hz: int) -> NDArray[np.float64]:
    """`samples` after crossovers, bands or convolution, trim, polarity and delay.

    As long as before; what is delayed beyond the end is lost.
    """
    out = chain_samples(settings.filters, samples, sample_rate_hz=sample_rate_hz)
    for crossover, side in ((settings.high_pass, "high"), (settings.low_pass, "low")):
        if crossover is not None:
            out = signal.sosfilt(crossover.sections(side, sample_rate_hz=sample_rate_hz), out)
    if settings.convolution is not None and settings.convolution.sample_rate_hz == sample_rate_hz:
        out = signal.oaconvolve(out, np.array(settings.convolution.taps))[: samples.size]
    gain = 10 ** (settings.trim_db / 20) * (-1 if settings.polarity == "inverted" else 1)
    whole, part = divmod(settings.delay_s * sample_rate_hz, 1)
    if part > 1e-6:
        out = _shifted(out, part)
    return gain * np.concatenate([np.zeros(int(whole)), out])[: samples.size]


def _shifted(samples: NDArray, part: float) -> NDArray:
    """Delay by a part of a sample, as a phase that grows with frequency; padded so that nothing wraps."""
    size = fft.next_fast_len(samples.size + 256, real=True)
    turn = np.exp(-2j * np.pi * fft.rfftfreq(size) * part)
    return fft.irfft(fft.rfft(samples, size) * turn, size)[: samples.size]
