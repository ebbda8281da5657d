"""The common bass of an alignment: what was asked of its filters, and the filters that were found."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

from dolce.core.bass import BassFigures, BassFilter, BassFilters, ErrorBudget, ExpectedBass, PressureNode
from dolce.core.cache import cache
from dolce.core.checked import limited, ranges
from dolce.core.filters import BandFilter, chain_samples
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

    @property
    def code(self) -> str:
        """What tells it from others, in an address."""
        return (
            f"{self.play}-{self.hand_over_hz:g}-{self.max_loss_db:g}-{1000 * self.latency_s:g}-{1000 * self.length_s:g}"
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class OutputCorrection:
    """Trim and bands that a correction gives an output."""

    trim_db: float = 0.0
    filters: tuple[BandFilter, ...] = ()


_PLAIN = OutputCorrection()


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
    subs_alone : BassFigures
        There, of the subs as they are.
    expected : ExpectedBass or None
        At others.
    spots_at : how many spots of each seat were used, by its name
    nodes, budget : as in `SharedBass`, seats by their names
    ends_by_close_take, ends_typed : channels whose end a take close to them told, or a person; that of others is read
        at the spots
    """

    request: BassRequest
    filters: BassFilters
    settings: Mapping[str, ChannelSettings]
    target_db_at_20: float
    given: BassFigures
    subs_alone: BassFigures
    expected: ExpectedBass | None
    spots_at: Mapping[str, int]
    nodes: tuple[PressureNode, ...] = ()
    budget: ErrorBudget | None = None
    ends_by_close_take: tuple[str, ...] = ()
    ends_typed: tuple[str, ...] = ()

    @property
    def spots(self) -> int:
        """How many were used in all."""
        return sum(self.spots_at.values())

    def at_rate(self, sample_rate_hz: int, corrections: Mapping[str, OutputCorrection] | None = None) -> CommonBass:
        """As a processor gets it at a sample rate.

        With corrections of outputs, the bass keeps its own: what a main's bands and trim do to the channel's sound is
        taken out of its part of the bass, and what the subs' do is put in, so that all of the bass gets the same.
        """
        of_subs = [(corrections or {}).get(row.output, _PLAIN) for row in self.filters.filters if row.end_hz is None]
        of_bass = of_subs[0] if of_subs else _PLAIN
        return CommonBass(
            convolutions={
                row.output: _convolution(
                    row,
                    self.filters.length_s,
                    sample_rate_hz,
                    *(
                        (_PLAIN, _PLAIN)
                        if row.end_hz is None
                        else (of_bass, (corrections or {}).get(row.output, _PLAIN))
                    ),
                )
                for row in self.filters.filters
            },
            latency_s=self.filters.latency_s,
        )


@cache(64)
def _convolution(
    row: BassFilter, length_s: float, sample_rate_hz: int, put_in: OutputCorrection, taken_out: OutputCorrection
) -> Convolution:
    """One output's filter; peaking bands and shelves of the opposite gain take each other out exactly."""
    opposite = tuple(replace(band, gain_db=-band.gain_db) for band in taken_out.filters if band.has_gain)
    sample = row.impulse(sample_rate_hz=sample_rate_hz, length_s=length_s)
    for filters in (put_in.filters, opposite):
        sample = chain_samples(filters, sample, sample_rate_hz=sample_rate_hz)
    return Convolution.of(sample * 10 ** ((put_in.trim_db - taken_out.trim_db) / 20), sample_rate_hz=sample_rate_hz)
