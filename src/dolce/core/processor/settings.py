"""What one output is told."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal, Self

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from dolce.core.cache import cache
from dolce.core.checked import limited, ranges
from dolce.core.dsp import delay_response, power_db
from dolce.core.filters import BandFilter, all_pass_biquad, chain_level_db
from dolce.core.processor.crossover import Crossover


@dataclass(frozen=True, slots=True, kw_only=True)
class Convolution:
    """An impulse response that fits one sample rate; a processor at another rate leaves it out.

    `data` holds its samples as 32-bit little-endian floats: what is sent, kept and compared is the same.
    """

    sample_rate_hz: int
    data: bytes

    @classmethod
    def of(cls, impulse: ArrayLike, *, sample_rate_hz: int) -> Self:
        """Of samples, shape (taps,), full scale 1."""
        return cls(sample_rate_hz=sample_rate_hz, data=np.asarray(impulse, dtype="<f4").tobytes())

    @property
    def taps(self) -> int:
        return len(self.data) // 4

    @property
    def impulse(self) -> NDArray[np.float64]:
        """Its samples, shape (taps,)."""
        return np.frombuffer(self.data, dtype="<f4").astype(np.float64)

    def response(self, at_hz: NDArray[np.float64]) -> NDArray[np.complex128]:
        """What it does to sound at its own sample rate, shape (points,)."""
        return _response_at(self, np.asarray(at_hz, dtype=np.float64).tobytes())


_BINS_BESIDE = 8


@cache(512)
def _response_at(taps: Convolution, frequencies: bytes) -> NDArray[np.complex128]:
    """Every route of a common bass asks for it on the same few grids."""
    at_hz = np.frombuffer(frequencies)
    grid_hz, spectrum, later_s = _spectrum(taps)
    # Late parts turn quickly: straight lines between bins would lose some of them.
    first, last = np.searchsorted(grid_hz, (np.min(at_hz), np.max(at_hz)))
    near = slice(max(0, first - _BINS_BESIDE), last + _BINS_BESIDE)
    read = scipy.interpolate.CubicSpline(grid_hz[near], spectrum[near])(at_hz)
    return delay_response(at_hz, later_s) * read


@cache(64)
def _spectrum(taps: Convolution) -> tuple[NDArray[np.float64], NDArray[np.complex128], float]:
    """Of a convolution without the time until its largest sample, fine enough to read between bins; and that time."""
    size = scipy.fft.next_fast_len(4 * taps.taps, real=True)
    impulse = np.concatenate([taps.impulse, np.zeros(size - taps.taps)])
    later = int(np.argmax(np.abs(impulse)))
    return (
        scipy.fft.rfftfreq(size, 1 / taps.sample_rate_hz),
        scipy.fft.rfft(np.roll(impulse, -later)),
        later / taps.sample_rate_hz,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class AllPass:
    """A second-order all-pass: it turns the phase by 180 degrees at its frequency, and leaves levels as they are."""

    frequency_hz: float = limited(10, 20_000, where="all-pass", unit="Hz")
    q: float = limited(0.1, 10, where="Q of the all-pass")

    def __post_init__(self) -> None:
        ranges(self)

    def sos(self, *, sample_rate_hz: float) -> NDArray[np.float64]:
        """Second-order section, shape (1, 6)."""
        return all_pass_biquad(frequency_hz=self.frequency_hz, q=self.q, sample_rate_hz=sample_rate_hz).sos()[None]


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelSettings:
    """One output: trim -40 to 12 dB, delay 0 to 0.2 s, polarity, crossovers, all-passes, peaking bands or a
    convolution.
    """

    trim_db: float = limited(-40, 12, where="trim", unit="dB", default=0.0)
    delay_s: float = limited(0, 0.2, where="delay", unit="s", default=0.0)
    polarity: Literal["normal", "inverted"] = "normal"
    filters: tuple[BandFilter, ...] = ()
    high_pass: Crossover | None = None
    low_pass: Crossover | None = None
    convolution: Convolution | None = None
    all_pass: tuple[AllPass, ...] = ()

    def __post_init__(self) -> None:
        ranges(self)

    def crossovers(self) -> Iterator[tuple[Literal["high", "low"], Crossover]]:
        """The high-pass and the low-pass that it has, each with its side."""
        if self.high_pass is not None:
            yield "high", self.high_pass
        if self.low_pass is not None:
            yield "low", self.low_pass

    def correction_level_db(self, at_hz: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
        """What bands and convolution do to the level at frequencies below half the sample rate, in dB."""
        level = chain_level_db(self.filters, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
        if self.convolution is not None and self.convolution.sample_rate_hz == sample_rate_hz:
            _, response = scipy.signal.freqz(self.convolution.impulse, worN=at_hz, fs=sample_rate_hz)
            level = level + power_db(np.abs(response) ** 2)
        return level

    @property
    def corrects(self) -> bool:
        """Whether bands or a convolution change the response."""
        return bool(self.filters) or self.convolution is not None

    @property
    def is_neutral(self) -> bool:
        return self == ChannelSettings()
