"""Settings per channel, presets, and the sound that comes out."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from dolce.core import checked
from dolce.core.filters import PeakingFilter, chain_samples
from dolce.errors import InvalidValue

BYPASS = "bypass"


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelSettings:
    """One output: trim -40 to 12 dB, delay 0 to 0.2 s, polarity, peaking bands."""

    trim_db: float = 0.0
    delay_s: float = 0.0
    polarity: Literal["normal", "inverted"] = "normal"
    filters: tuple[PeakingFilter, ...] = ()

    def __post_init__(self) -> None:
        checked.within(self.trim_db, low=-40, high=12, where="trim", unit="dB")
        checked.within(self.delay_s, low=0, high=0.2, where="delay", unit="s")


@dataclass(frozen=True, slots=True, kw_only=True)
class Preset:
    """A complete set of settings under a name; channels that are not listed are neutral.

    `cut_db` turns all channels down alike, so that no boost can run out of range.
    """

    name: str
    cut_db: float = 0.0
    channels: Mapping[str, ChannelSettings] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorState:
    """What the processor holds, and which preset ("A", "B") plays; "bypass" plays none."""

    active: str = BYPASS
    presets: Mapping[str, Preset] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if self.active != BYPASS and self.active not in self.presets:
            raise InvalidValue(f"preset {self.active} is empty.", where="processor", remedy="Load it first.")

    def settings_for(self, channel: str) -> ChannelSettings:
        """What the channel gets right now; neutral when bypassed."""
        if self.active == BYPASS:
            return ChannelSettings()
        preset = self.presets[self.active]
        own = preset.channels.get(channel, ChannelSettings())
        return replace(own, trim_db=own.trim_db - preset.cut_db)

    @property
    def cut_db(self) -> float:
        """How much everything is turned down right now."""
        return 0.0 if self.active == BYPASS else self.presets[self.active].cut_db

    def sounds_like(self, other: "ProcessorState", channels: Sequence[str]) -> bool:
        """Whether both do the same to every channel right now."""
        return all(self.settings_for(channel) == other.settings_for(channel) for channel in channels)

    @property
    def description(self) -> str:
        """For the header and the name of a round: "bypassed" or "A, Aligned and corrected"."""
        return "bypassed" if self.active == BYPASS else f"{self.active}, {self.presets[self.active].name}"


def processed(samples: NDArray[np.float64], settings: ChannelSettings, *, sample_rate_hz: int) -> NDArray[np.float64]:
    """`samples` after bands, trim, polarity and delay; as long as before, what is delayed beyond the end is lost."""
    out = chain_samples(settings.filters, samples, sample_rate_hz=sample_rate_hz)
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
