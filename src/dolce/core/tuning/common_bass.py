"""The common bass of an alignment: what was asked of its filters, and the filters that were found."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from dolce.core.bass import BassFigures, BassFilters, ExpectedBass
from dolce.core.cache import cache
from dolce.core.checked import limited, ranges
from dolce.core.processor import ChannelSettings, CommonBass, Convolution

Play = Literal["all", "subs"]


@dataclass(frozen=True, slots=True, kw_only=True)
class BassRequest:
    """What is asked of the common bass.

    Attributes
    ----------
    play : "all" or "subs"
        Whether main channels that reach low enough play it too.
    hand_over_hz : float
        Where channels' own sound takes over, at 24 dB per octave.
    max_loss_db : float
        How much louder than together as they are subs may be driven.
    length_s, latency_s : float
        Of each filter, and by how much channels' own sound waits.
    """

    play: Play = "all"
    hand_over_hz: float = limited(60, 120, where="hand-over", unit="Hz", default=120.0)
    max_loss_db: float = limited(0, 12, where="loss of output", unit="dB", default=4.0)
    length_s: float = limited(0.1, 0.5, where="length of the filters", unit="s", default=0.4)
    latency_s: float = limited(0, 0.05, where="latency", unit="s", default=0.012)

    def __post_init__(self) -> None:
        ranges(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundBass:
    """Filters of the common bass that were found for an alignment, and what they came of.

    Attributes
    ----------
    request : BassRequest
    filters : BassFilters
    settings : mapping of output to ChannelSettings
        What the filters stand on: trims, delays and polarities of all outputs.
    target_db_at_20 : float
        How far the target that was asked for lies above its middle at 20 Hz.
    given : BassFigures
        At the spots that were taken.
    expected : ExpectedBass or None
        At others.
    seats, spots : names of the seats, and how many spots of them were used
    stopped : whether the search was ended before its time
    """

    request: BassRequest
    filters: BassFilters
    settings: Mapping[str, ChannelSettings]
    target_db_at_20: float
    given: BassFigures
    expected: ExpectedBass | None
    seats: tuple[str, ...]
    spots: int
    stopped: bool = False

    def at_rate(self, sample_rate_hz: int) -> CommonBass:
        """As a processor gets it at a sample rate."""
        return _at_rate(self.filters, sample_rate_hz)


@cache(8)
def _at_rate(filters: BassFilters, sample_rate_hz: int) -> CommonBass:
    return CommonBass(
        convolutions={
            output: Convolution.of(sample, sample_rate_hz=sample_rate_hz)
            for output, sample in filters.impulses(sample_rate_hz).items()
        },
        latency_s=filters.latency_s,
    )
