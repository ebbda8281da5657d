"""What a real processor can do, typed once and kept by name, so that corrections fit it."""

from dataclasses import dataclass, replace

from dolce.core import checked
from dolce.core.correction import Limits
from dolce.core.filters import PeakingFilter
from dolce.core.processor.settings import ChannelSettings, Preset
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True)
class ProcessorLimits:
    """One device.

    Attributes
    ----------
    id : int or None
        None before it is kept.
    bands : int
        Parametric bands per output, 0 to 31; 0 for a device that only convolves.
    lowest_gain_db, highest_gain_db, gain_step_db : float
        Of a band.
    lowest_q, highest_q : float
    lowest_trim_db, highest_trim_db, trim_step_db : float
    most_delay_s : float
    taps : int
        Of a convolution per output; 0 for none.
    presets : int
        1 to 20.
    """

    id: int | None = None
    name: str
    bands: int = 10
    lowest_gain_db: float = -24.0
    highest_gain_db: float = 12.0
    gain_step_db: float = 0.1
    lowest_q: float = 0.2
    highest_q: float = 20.0
    lowest_trim_db: float = -40.0
    highest_trim_db: float = 12.0
    trim_step_db: float = 0.1
    most_delay_s: float = 0.2
    taps: int = 0
    presets: int = 2

    def __post_init__(self) -> None:
        if not self.name.strip():
            raise InvalidValue("a processor needs a name.", where="name", remedy="Type one.")
        checked.within(self.bands, low=0, high=31, where="bands")
        checked.within(self.lowest_gain_db, low=-30, high=0, where="lowest gain", unit="dB")
        checked.within(self.highest_gain_db, low=0, high=15, where="highest gain", unit="dB")
        checked.within(self.gain_step_db, low=0.01, high=3, where="gain step", unit="dB")
        checked.within(self.lowest_q, low=0.1, high=10, where="lowest Q")
        checked.within(self.highest_q, low=0.2, high=50, where="highest Q")
        if self.highest_q <= self.lowest_q:
            raise InvalidValue(f"Q {self.lowest_q:g} to {self.highest_q:g} is upside down.", where="highest Q",
                               remedy="End above the start.")
        checked.within(self.lowest_trim_db, low=-40, high=0, where="lowest trim", unit="dB")
        checked.within(self.highest_trim_db, low=0, high=12, where="highest trim", unit="dB")
        checked.within(self.trim_step_db, low=0.01, high=3, where="trim step", unit="dB")
        checked.within(self.most_delay_s, low=0, high=0.2, where="largest delay", unit="s")
        checked.within(self.taps, low=0, high=200_000, where="taps")
        checked.within(self.presets, low=1, high=20, where="presets")

    def narrowed(self, limits: Limits) -> Limits:
        """Limits of a correction drawn in to what the device's bands can do."""
        if not self.bands:
            return limits
        low = min(max(limits.min_q, self.lowest_q), self.highest_q * 0.9)
        return replace(limits, bands=min(limits.bands, self.bands), min_q=max(0.2, low),
                       max_q=min(20.0, max(min(limits.max_q, self.highest_q), low * 1.05)),
                       max_boost_db=min(limits.max_boost_db, self.highest_gain_db),
                       max_cut_db=min(limits.max_cut_db, -self.lowest_gain_db))

    def settable(self, band: PeakingFilter) -> PeakingFilter:
        """The nearest band that the device can be set to, its gain never larger than before."""
        gain = min(max(band.gain_db, self.lowest_gain_db), self.highest_gain_db)
        steps = gain / self.gain_step_db
        whole = round(steps) if abs(steps - round(steps)) < 1e-6 else int(steps)
        return replace(band, gain_db=round(whole * self.gain_step_db, 4) + 0.0,
                       q=min(max(band.q, self.lowest_q), self.highest_q))

    def broken_by(self, preset: Preset) -> tuple[str, ...]:
        """What of a preset the device can't hold, one sentence each; empty where it fits."""
        return tuple(f"{channel}: {text}" for channel, settings in preset.channels.items()
                     for text in self.broken_by_channel(settings))

    def broken_by_channel(self, settings: ChannelSettings) -> tuple[str, ...]:
        """What of one output's settings the device can't hold."""
        found = []
        if len(settings.filters) > self.bands:
            found.append(f"{len(settings.filters)} bands, the device has {self.bands}")
        for number, band in enumerate(settings.filters, 1):
            if not self.lowest_gain_db - 1e-6 <= band.gain_db <= self.highest_gain_db + 1e-6:
                found.append(f"band {number} has {band.gain_db:+.1f} dB, the device allows {self.lowest_gain_db:g} "
                             f"to {self.highest_gain_db:g} dB")
            elif _between_steps(band.gain_db, self.gain_step_db):
                found.append(f"band {number} has {band.gain_db:+.2f} dB, the device goes in steps of "
                             f"{self.gain_step_db:g} dB")
            if not self.lowest_q - 1e-6 <= band.q <= self.highest_q + 1e-6:
                found.append(f"band {number} has Q {band.q:.2f}, the device allows {self.lowest_q:g} to "
                             f"{self.highest_q:g}")
        if not self.lowest_trim_db - 1e-6 <= settings.trim_db <= self.highest_trim_db + 1e-6:
            found.append(f"trim {settings.trim_db:+.1f} dB, the device allows {self.lowest_trim_db:g} to "
                         f"{self.highest_trim_db:g} dB")
        elif _between_steps(settings.trim_db, self.trim_step_db):
            found.append(f"trim {settings.trim_db:+.2f} dB, the device goes in steps of {self.trim_step_db:g} dB")
        if settings.delay_s > self.most_delay_s + 1e-9:
            found.append(f"delay {settings.delay_s * 1000:.2f} ms, the device allows {self.most_delay_s * 1000:g} ms")
        if settings.convolution is not None and len(settings.convolution.taps) > self.taps:
            found.append(f"{len(settings.convolution.taps)} taps, the device has {self.taps}")
        return tuple(found)


def _between_steps(value: float, step: float) -> bool:
    return abs(value / step - round(value / step)) > 1e-3


# What the simulated processor can do.
REHEARSAL_LIMITS = ProcessorLimits(name="Rehearsal processor", bands=16, taps=16_384, presets=3)
