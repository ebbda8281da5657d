"""A steady source through filters, block after block without a seam."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.dsp import peak_dbfs
from dolce.core.filters import BandFilter, chain_sections
from dolce.core.signals.source import PERIOD_S, Kind, Source


@dataclass(frozen=True, slots=True, kw_only=True)
class FilteredSource:
    """Pink noise as filters let it pass, which the processor does not play: what it would sound like.

    The noise repeats, so filters are applied round its period: there is no beginning that would have to settle.
    """

    source: Source
    filters: tuple[BandFilter, ...] = ()

    @property
    def level_dbfs(self) -> float:
        """Of the noise before the filters."""
        return self.source.level_dbfs

    @property
    def kind(self) -> str:
        return self.source.kind

    def peak_dbfs(self, sample_rate_hz: int) -> float:
        """Highest sample after the filters, full scale 1 being 0 dBFS."""
        return self.source.level_dbfs + peak_dbfs(_period(self.source.kind, self.filters, sample_rate_hz))

    def block(self, start: int, count: int, *, sample_rate_hz: int) -> NDArray[np.float64]:
        """`count` samples from sample number `start` on, full scale 1."""
        period = _period(self.source.kind, self.filters, sample_rate_hz)
        return 10 ** (self.source.level_dbfs / 20) * period.take(np.arange(start, start + count), mode="wrap")


@cache(8)
def _period(kind: Kind, filters: tuple[BandFilter, ...], sample_rate_hz: int) -> NDArray[np.float64]:
    samples = round(PERIOD_S * sample_rate_hz)
    period = Source(kind=kind, level_dbfs=-40.0).block(0, samples, sample_rate_hz=sample_rate_hz) * 100
    sections = chain_sections(filters, sample_rate_hz=sample_rate_hz)
    if len(sections):
        at_hz = scipy.fft.rfftfreq(samples, 1 / sample_rate_hz)
        response = scipy.signal.freqz_sos(sections, worN=at_hz, fs=sample_rate_hz)[1]
        period = scipy.fft.irfft(scipy.fft.rfft(period) * response, samples)
    period.flags.writeable = False
    return period
