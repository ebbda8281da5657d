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
    return Biquad(b0=(1 + alpha * a) / a0, b1=-2 * math.cos(w0) / a0, b2=(1 - alpha * a) / a0,
                  a1=-2 * math.cos(w0) / a0, a2=(1 - alpha / a) / a0)
