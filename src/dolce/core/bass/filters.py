"""Filters of the common bass as they are kept: taps on the lattice, from which impulse responses follow at any rate."""

from dataclasses import dataclass
from typing import Self

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.bass.lattice import FREQUENCY_HZ, TAPS_PER_S, filter_at, spectra_of_taps
from dolce.core.bass.takes import high_pass, protected

_LEAST_DB = -120.0
_FINE_RATE_HZ, _FINE_SIZE = 4 * TAPS_PER_S, 16_384  # points 0.12 Hz apart


@dataclass(frozen=True, slots=True, kw_only=True)
class BassFilter:
    """One output's filter.

    Attributes
    ----------
    output : str
    data : bytes
        Taps on the lattice as 32-bit little-endian floats.
    end_hz : float or None
        Where the loudspeaker ends: the filter stands behind a high-pass there. None for a sub, which has none.
    """

    output: str
    data: bytes
    end_hz: float | None

    @classmethod
    def of(cls, output: str, taps: ArrayLike, *, end_hz: float | None) -> Self:
        """Of taps of shape (taps,)."""
        return cls(output=output, data=np.asarray(taps, dtype="<f4").tobytes(), end_hz=end_hz)

    @property
    def taps(self) -> NDArray[np.float64]:
        """On the lattice, shape (taps,)."""
        return np.frombuffer(self.data, dtype="<f4").astype(np.float64)

    @property
    def spectrum(self) -> NDArray[np.complex128]:
        """What it does at the frequencies of the lattice, its high-pass included, shape (frequencies,)."""
        of_taps = spectra_of_taps(self.taps)
        return of_taps if self.end_hz is None else of_taps * high_pass(self.end_hz)

    @property
    def highest_gain_db(self) -> float:
        """Over all frequencies, of the impulse response as it is played: cut at its length, a high-pass rings on."""
        sample = self.impulse(sample_rate_hz=_FINE_RATE_HZ, length_s=(self.taps.size + 3) / TAPS_PER_S)
        return max(_LEAST_DB, float(20 * np.log10(np.abs(np.fft.rfft(sample, _FINE_SIZE)).max() + 1e-12)))

    def impulse(self, *, sample_rate_hz: int, length_s: float) -> NDArray[np.float64]:
        """Its impulse response, its high-pass included, shape (samples,)."""
        sample = filter_at(self.taps, sample_rate_hz=sample_rate_hz, length_s=length_s)
        return sample if self.end_hz is None else protected(sample, end_hz=self.end_hz, sample_rate_hz=sample_rate_hz)


@dataclass(frozen=True, slots=True, kw_only=True)
class BassFilters:
    """Those of all outputs, of one length, with the time by which channels' own sound waits for them."""

    filters: tuple[BassFilter, ...]
    length_s: float
    latency_s: float

    @property
    def outputs(self) -> tuple[str, ...]:
        return tuple(row.output for row in self.filters)

    @property
    def spectra(self) -> NDArray[np.complex128]:
        """Shape (outputs, frequencies)."""
        return np.array([row.spectrum for row in self.filters]).reshape(-1, FREQUENCY_HZ.size)

    def impulses(self, sample_rate_hz: int) -> dict[str, NDArray[np.float64]]:
        """Impulse response of each output's filter, shape (samples,)."""
        return {row.output: row.impulse(sample_rate_hz=sample_rate_hz, length_s=self.length_s) for row in self.filters}
