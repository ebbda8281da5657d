"""What a real processor can do, typed once and kept by name, so that corrections fit it."""

from dataclasses import dataclass, replace

from dolce.core.checked import limited, ranges
from dolce.core.correction import Limits
from dolce.core.filters import PeakingFilter
from dolce.core.processor.preset import Preset
from dolce.core.processor.settings import ChannelSettings
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
    crossovers : bool
        Whether outputs have crossovers, and bass can be sent to the subs.
    taps : int
        Of a convolution per output; 0 for none.
    presets : int
        1 to 20.
    """

    id: int | None = None
    name: str
    bands: int = limited(0, 31, where="bands", whole=True, default=10)
    lowest_gain_db: float = limited(-30, 0, where="lowest gain", unit="dB", default=-24.0)
    highest_gain_db: float = limited(0, 15, where="highest gain", unit="dB", default=12.0)
    gain_step_db: float = limited(0.01, 3, where="gain step", unit="dB", default=0.1)
    lowest_q: float = limited(0.1, 10, where="lowest Q", default=0.2)
    highest_q: float = limited(0.2, 50, where="highest Q", default=20.0)
    lowest_trim_db: float = limited(-40, 0, where="lowest trim", unit="dB", default=-40.0)
    highest_trim_db: float = limited(0, 12, where="highest trim", unit="dB", default=12.0)
    trim_step_db: float = limited(0.01, 3, where="trim step", unit="dB", default=0.1)
    most_delay_s: float = limited(0, 0.2, where="largest delay", unit="s", default=0.2)
    crossovers: bool = True
    taps: int = limited(0, 200_000, where="taps", whole=True, default=0)
    presets: int = limited(1, 20, where="presets", whole=True, default=2)

    def __post_init__(self) -> None:
        if not self.name.strip():
            raise InvalidValue("a processor needs a name.", where="name", remedy="Type one.")
        ranges(self)
        if self.highest_q <= self.lowest_q:
            raise InvalidValue(f"Q {self.lowest_q:g} to {self.highest_q:g} is upside down.", where="highest Q",
                               remedy="End above the start.")

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
        routing = ("bass goes to the subs, the device has no crossovers",) if (
            preset.bass is not None and not self.crossovers) else ()
        return routing + tuple(f"{channel}: {text}" for channel, settings in preset.channels.items()
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
        if not self.crossovers and (settings.high_pass or settings.low_pass):
            found.append("crossover, the device has none")
        if settings.convolution is not None and settings.convolution.taps > self.taps:
            found.append(f"{settings.convolution.taps} taps, the device has {self.taps}")
        return tuple(found)


@dataclass(frozen=True, slots=True, kw_only=True)
class Capabilities:
    """What a processor can be asked to do, besides what fits its limits.

    Attributes
    ----------
    readable : bool
        It says what it holds. Of any other, what the person said last is all that is known.
    loads : bool
        It takes presets and plays them when told to; in any other the person does both, and says so.
    mutes, dims : bool
        It shuts channels, and turns everything down by 20 dB.
    simulated : bool
        It exists in the rehearsal alone.
    """

    readable: bool = False
    loads: bool = False
    mutes: bool = False
    dims: bool = False
    simulated: bool = False


SAID = Capabilities()
REHEARSAL = Capabilities(readable=True, loads=True, mutes=True, dims=True, simulated=True)


def _between_steps(value: float, step: float) -> bool:
    return abs(value / step - round(value / step)) > 1e-3


# What the simulated processor can do.
REHEARSAL_LIMITS = ProcessorLimits(name="Rehearsal processor", bands=16, taps=16_384, presets=3)
