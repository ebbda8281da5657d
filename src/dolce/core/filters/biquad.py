"""Second-order sections."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Biquad:
    """Coefficients of one second-order section, normalised to a0 = 1."""

    b0: float
    b1: float
    b2: float
    a1: float
    a2: float

    def sos(self) -> NDArray[np.float64]:
        """One row as scipy.signal.sosfilt takes it, shape (6,)."""
        return np.array([self.b0, self.b1, self.b2, 1.0, self.a1, self.a2])


def peaking_biquad(*, frequency_hz: float, gain_db: float, q: float, sample_rate_hz: float) -> Biquad:
    """Peaking equaliser; Q is that of the half of the gain in dB.

    References
    ----------
    "Audio EQ Cookbook", W3C Working Group Note, 2021: peakingEQ.
    """
    a = 10 ** (gain_db / 40)
    w0 = 2 * math.pi * frequency_hz / sample_rate_hz
    alpha = math.sin(w0) / (2 * q)
    a0 = 1 + alpha / a
    return Biquad(
        b0=(1 + alpha * a) / a0,
        b1=-2 * math.cos(w0) / a0,
        b2=(1 - alpha * a) / a0,
        a1=-2 * math.cos(w0) / a0,
        a2=(1 - alpha / a) / a0,
    )


def shelf_biquad(*, frequency_hz: float, gain_db: float, q: float, sample_rate_hz: float, low: bool) -> Biquad:
    """Low or high shelf, half of the gain in dB at its frequency. References as above: lowShelf, highShelf."""
    a = 10 ** (gain_db / 40)
    w0 = 2 * math.pi * frequency_hz / sample_rate_hz
    cos, root = math.cos(w0), 2 * math.sqrt(a) * math.sin(w0) / (2 * q)
    side = 1 if low else -1
    a0 = (a + 1) + side * (a - 1) * cos + root
    return Biquad(
        b0=a * ((a + 1) - side * (a - 1) * cos + root) / a0,
        b1=side * 2 * a * ((a - 1) - side * (a + 1) * cos) / a0,
        b2=a * ((a + 1) - side * (a - 1) * cos - root) / a0,
        a1=-side * 2 * ((a - 1) + side * (a + 1) * cos) / a0,
        a2=((a + 1) + side * (a - 1) * cos - root) / a0,
    )


def pass_biquad(*, frequency_hz: float, q: float, sample_rate_hz: float, high: bool) -> Biquad:
    """High- or low-pass of 12 dB per octave, Q in dB at its frequency. References as above: HPF, LPF."""
    w0 = 2 * math.pi * frequency_hz / sample_rate_hz
    cos, alpha = math.cos(w0), math.sin(w0) / (2 * q)
    end = (1 + cos if high else 1 - cos) / 2 / (1 + alpha)
    return Biquad(
        b0=end, b1=-2 * end if high else 2 * end, b2=end, a1=-2 * cos / (1 + alpha), a2=(1 - alpha) / (1 + alpha)
    )


def all_pass_biquad(*, frequency_hz: float, q: float, sample_rate_hz: float) -> Biquad:
    """All-pass that turns by 180 degrees at its frequency. References as above: APF."""
    w0 = 2 * math.pi * frequency_hz / sample_rate_hz
    cos, alpha = math.cos(w0), math.sin(w0) / (2 * q)
    end, middle = (1 - alpha) / (1 + alpha), -2 * cos / (1 + alpha)
    return Biquad(b0=end, b1=middle, b2=1.0, a1=middle, a2=end)
