"""What a real processor can do, typed once and kept by name, so that corrections fit it."""

from dataclasses import dataclass, replace
from typing import Literal

from dolce.core.checked import limited, ranges
from dolce.core.correction import Limits
from dolce.core.filters import BandFilter
from dolce.core.processor.preset import Preset
from dolce.core.processor.settings import ChannelSettings
from dolce.core.processor.unsupported import UnsupportedKind, UnsupportedSetting
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
    most_delay_s, delay_step_s : float
        Largest delay, and its steps; steps of 0 where it takes any.
    crossovers : bool
        Whether outputs have crossovers, and bass can be sent to the subs.
    shelves : bool
        Whether its bands can be shelves too.
    fixed_bands : int
        Of a graphic equaliser per output, besides.
    all_passes : int
        Second-order all-passes per output, besides the bands.
    taps : int
        Of a convolution per output; 0 for none.
    bass_taps : int
        Of a convolution for each output between the common bass and it; 0 for none.
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
    delay_step_s: float = limited(0, 0.005, where="delay step", unit="s", default=0.0)
    crossovers: bool = True
    shelves: bool = True
    fixed_bands: int = limited(0, 62, where="fixed bands", whole=True, default=0)
    all_passes: int = limited(0, 4, where="all-passes", whole=True, default=0)
    taps: int = limited(0, 200_000, where="taps", whole=True, default=0)
    bass_taps: int = limited(0, 200_000, where="taps of the common bass", whole=True, default=0)
    presets: int = limited(1, 20, where="presets", whole=True, default=2)

    def __post_init__(self) -> None:
        if not self.name.strip():
            raise InvalidValue("a processor needs a name.", where="name", remedy="Type one.")
        ranges(self)
        if self.highest_q <= self.lowest_q:
            raise InvalidValue(
                f"Q {self.lowest_q:g} to {self.highest_q:g} is upside down.",
                where="highest Q",
                remedy="End above the start.",
            )

    def narrowed(self, limits: Limits) -> Limits:
        """Limits of a correction drawn in to what the device's bands can do."""
        if not self.bands:
            return limits
        low = min(max(limits.min_q, self.lowest_q), self.highest_q * 0.9)
        return replace(
            limits,
            bands=min(limits.bands, self.bands),
            min_q=max(0.2, low),
            max_q=min(20.0, max(min(limits.max_q, self.highest_q), low * 1.05)),
            max_boost_db=min(limits.max_boost_db, self.highest_gain_db),
            max_cut_db=min(limits.max_cut_db, -self.lowest_gain_db),
            highest_gain_db=min(limits.highest_gain_db, self.highest_gain_db),
            shelves=limits.shelves and self.shelves,
        )

    def settable(self, band: BandFilter) -> BandFilter:
        """The nearest band that the device can be set to, its gain never larger than before."""
        gain = min(max(band.gain_db, self.lowest_gain_db), self.highest_gain_db)
        steps = gain / self.gain_step_db
        whole = round(steps) if abs(steps - round(steps)) < 1e-6 else int(steps)
        return replace(
            band, gain_db=round(whole * self.gain_step_db, 4) + 0.0, q=min(max(band.q, self.lowest_q), self.highest_q)
        )

    def longest_convolution_s(self, *, sample_rate_hz: int) -> float:
        """How long a convolution it holds at a rate; 0 where it does not convolve."""
        return self.taps / sample_rate_hz

    def broken_by(self, preset: Preset) -> tuple[UnsupportedSetting, ...]:
        """What of a preset the device can't hold; empty where it fits."""
        routing: tuple[UnsupportedSetting, ...] = ()
        if preset.bass is not None and not self.crossovers:
            routing = (UnsupportedSetting(kind="routing"),)
        common = preset.bass.common if preset.bass is not None else None
        longest = max((convolution.taps for convolution in common.convolutions.values()), default=0) if common else 0
        if longest > self.bass_taps:
            routing = (*routing, UnsupportedSetting(kind="bass taps", value=longest, high=self.bass_taps))
        return routing + tuple(
            replace(unsupported, channel=channel)
            for channel, settings in preset.channels.items()
            for unsupported in self.broken_by_channel(settings)
        )

    def broken_by_channel(self, settings: ChannelSettings) -> tuple[UnsupportedSetting, ...]:
        """What of one output's settings the device can't hold."""
        found = []
        if len(settings.filters) > self.bands + self.fixed_bands:
            found.append(
                UnsupportedSetting(kind="bands", value=len(settings.filters), high=self.bands + self.fixed_bands)
            )
        for number, band in enumerate(settings.filters, 1):
            found += _unsupported_steps(
                "gain", band.gain_db, self.lowest_gain_db, self.highest_gain_db, self.gain_step_db, band=number
            )
            if not self.shelves and band.kind in ("low shelf", "high shelf"):
                found.append(UnsupportedSetting(kind="shelf", band=number))
            if not self.lowest_q - 1e-6 <= band.q <= self.highest_q + 1e-6:
                found.append(
                    UnsupportedSetting(kind="q", band=number, value=band.q, low=self.lowest_q, high=self.highest_q)
                )
        found += _unsupported_steps(
            "trim", settings.trim_db, self.lowest_trim_db, self.highest_trim_db, self.trim_step_db
        )
        if settings.delay_s > self.most_delay_s + 1e-9:
            found.append(UnsupportedSetting(kind="delay", value=settings.delay_s, high=self.most_delay_s))
        steps = settings.delay_s / self.delay_step_s if self.delay_step_s else 0.0
        if abs(steps - round(steps)) > 1e-3:
            found.append(
                UnsupportedSetting(
                    kind="delay step", value=settings.delay_s, low=self.delay_step_s, high=self.delay_step_s
                )
            )
        if not self.crossovers and (settings.high_pass or settings.low_pass):
            found.append(UnsupportedSetting(kind="crossover"))
        if len(settings.all_pass) > self.all_passes:
            found.append(UnsupportedSetting(kind="all-passes", value=len(settings.all_pass), high=self.all_passes))
        if settings.convolution is not None and settings.convolution.taps > self.taps:
            found.append(UnsupportedSetting(kind="taps", value=settings.convolution.taps, high=self.taps))
        return tuple(found)


def _unsupported_steps(
    kind: Literal["gain", "trim"], value: float, low: float, high: float, step: float, *, band: int = 0
) -> list[UnsupportedSetting]:
    """Whether a value in dB lies in a range and on a step of it."""
    if not low - 1e-6 <= value <= high + 1e-6:
        return [UnsupportedSetting(kind=kind, band=band, value=value, low=low, high=high)]
    if abs(value / step - round(value / step)) > 1e-3:
        of_step: UnsupportedKind = "gain step" if kind == "gain" else "trim step"
        return [UnsupportedSetting(kind=of_step, band=band, value=value, low=step, high=step)]
    return []


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


# What the simulated processor can do.
REHEARSAL_LIMITS = ProcessorLimits(
    name="Rehearsal processor", bands=16, fixed_bands=31, all_passes=2, taps=16_384, bass_taps=48_000, presets=3
)
