"""The logarithmic (exponential) sine sweep."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.dsp import faded
from dolce.errors import InvalidValue

_FADE_IN_S = 0.02
_FADE_OUT_S = 0.005


@dataclass(frozen=True, slots=True, kw_only=True)
class Sweep:
    """What defines a test sweep.

    Attributes
    ----------
    start_hz, stop_hz : float
        0 < start_hz < stop_hz < sample_rate_hz / 2.
    duration_s : float
        0.1 to 60 s. Doubling it gains 3 dB over noise.
    sample_rate_hz : int
        8 to 192 kHz.
    level_dbfs : float
        -90 to 0, as AES17 counts it: a full-scale sine is 0 dBFS.
    """

    start_hz: float = 10.0
    stop_hz: float = 22_000.0
    duration_s: float = limited(0.1, 60, where="sweep length", unit="s", default=5.0)
    sample_rate_hz: int = limited(8_000, 192_000, where="sample rate", unit="Hz", whole=True, default=48_000)
    level_dbfs: float = limited(-90, 0, where="sweep level", unit="dBFS", default=-12.0)

    def __post_init__(self) -> None:
        ranges(self)
        if not 0 < self.start_hz < self.stop_hz:
            raise InvalidValue(
                f"a sweep from {self.start_hz:g} to {self.stop_hz:g} Hz does not rise.",
                where="sweep range",
                remedy="Start above 0 and below the end.",
            )
        if self.stop_hz >= self.sample_rate_hz / 2:
            raise InvalidValue(
                f"{self.stop_hz:g} Hz does not fit into a sample rate of {self.sample_rate_hz} Hz.",
                where="sweep range",
                remedy=f"Stay below {self.sample_rate_hz / 2:g} Hz.",
            )

    @property
    def size(self) -> int:
        """How many samples it has."""
        return round(self.duration_s * self.sample_rate_hz)

    def samples(self) -> NDArray[np.float64]:
        """The sweep, faded at both ends, shape (samples,), full scale 1."""
        sweep = exponential_sweep(
            start_hz=self.start_hz, stop_hz=self.stop_hz, duration_s=self.duration_s, sample_rate_hz=self.sample_rate_hz
        )
        rising, falling = (round(s * self.sample_rate_hz) for s in (_FADE_IN_S, _FADE_OUT_S))
        return 10 ** (self.level_dbfs / 20) * faded(sweep, rising=rising, falling=falling)


def exponential_sweep(
    *, start_hz: float, stop_hz: float, duration_s: float, sample_rate_hz: float
) -> NDArray[np.float64]:
    """Sine sweep that spends the same time in every octave.

    Parameters
    ----------
    start_hz, stop_hz, sample_rate_hz : float
        0 < start_hz < stop_hz < sample_rate_hz / 2.
    duration_s : float
        Above 0.

    Returns
    -------
    ndarray, shape (samples,)
        Full scale is 1. Not faded.

    References
    ----------
    A. Farina, "Simultaneous measurement of impulse response and distortion with a swept-sine technique",
    AES 108th Convention, 2000.
    """
    rate_s = duration_s / math.log(stop_hz / start_hz)
    time = np.arange(round(duration_s * sample_rate_hz)) / sample_rate_hz
    return np.sin(2 * np.pi * start_hz * rate_s * np.expm1(time / rate_s))


def harmonic_offset_s(harmonic: int, *, start_hz: float, stop_hz: float, duration_s: float) -> float:
    """How far ahead of the linear response the response of a harmonic appears, in seconds: L ln k (Farina 2000)."""
    return duration_s / math.log(stop_hz / start_hz) * math.log(harmonic)
