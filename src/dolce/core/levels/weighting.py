"""Frequency weightings A, C and Z of sound level meters: as curves, and as filters for live sound."""

from typing import Literal

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from dolce.errors import InvalidValue

Weighting = Literal["A", "C", "Z"]
WEIGHTINGS: tuple[Weighting, ...] = ("A", "C", "Z")
# Poles in Hz, IEC 61672-1:2013, Annex E: double at F1 and F4, single at F2 and F3 for A.
F1, F2, F3, F4 = 20.599, 107.65, 737.86, 12194.0
_AT_1_KHZ_DB = {"A": 2.000, "C": 0.062}


def weighting_db(frequency_hz: ArrayLike, weighting: Weighting) -> NDArray[np.float64]:
    """Level that a weighting adds at frequencies above 0, in dB.

    Raises
    ------
    InvalidValue
        If the weighting is not A, C or Z.

    References
    ----------
    IEC 61672-1:2013, Annex E, eqs. (E.1) and (E.6).
    """
    f2 = np.asarray(frequency_hz, dtype=float) ** 2
    if weighting == "Z":
        return np.zeros_like(f2)
    if weighting not in _AT_1_KHZ_DB:
        raise InvalidValue(f"{weighting!r} is not a weighting.", where="weighting", remedy="Choose A, C or Z.")
    gain = F4**2 * f2 / ((f2 + F1**2) * (f2 + F4**2))
    if weighting == "A":
        gain = gain * f2 / np.sqrt((f2 + F2**2) * (f2 + F3**2))
    return 20 * np.log10(np.maximum(gain, 1e-30)) + _AT_1_KHZ_DB[weighting]


def weighting_sections(weighting: Weighting, *, sample_rate_hz: float) -> NDArray[np.float64]:
    """Second-order sections of a digital filter with the weighting's magnitude, shape (sections, 6); none for Z.

    The high-passes are transformed with their corners kept; the low-passes match the analogue magnitude at 0 Hz, at
    their corner and at half the sample rate, which a bilinear transform would lose at the top.

    References
    ----------
    M. Vicanek, "Matched One-Pole Digital Shelving Filters", 2016, for the idea of the low-passes.
    """
    weighting_db(1000.0, weighting)
    if weighting == "Z":
        return np.zeros((0, 6))
    sections = [_high_pass(F1, sample_rate_hz, F1), _low_pass(F4, sample_rate_hz)]
    if weighting == "A":
        sections.append(_high_pass(F2, sample_rate_hz, F3))
    sos = np.array(sections)
    _, at_1_khz = scipy.signal.sosfreqz(sos, worN=[1000.0], fs=sample_rate_hz)
    sos[0, :3] /= np.abs(at_1_khz[0])
    return sos


def _high_pass(first_hz: float, rate: float, second_hz: float) -> list[float]:
    """Two first-order high-passes in one section."""
    parts = [scipy.signal.butter(1, corner, "high", fs=rate) for corner in (first_hz, second_hz)]
    return [*np.convolve(parts[0][0], parts[1][0]), *np.convolve(parts[0][1], parts[1][1])]


def _low_pass(corner_hz: float, rate: float) -> list[float]:
    """Two equal first-order low-passes whose magnitude is right at 0 Hz, at the corner and at half the sample rate.

    With u = sin(w/2)^2 the squared magnitude of one pole and one zero is (1 + b u) / (1 + a u); a and b follow from the
    two upper frequencies, pole and zero from a = 4 p / (1 - p)^2.
    """
    middle_hz = min(corner_hz, 0.35 * rate)
    middle, top = (1 / (1 + (f / corner_hz) ** 2) for f in (middle_hz, rate / 2))
    u = np.sin(np.pi * middle_hz / rate) ** 2
    a = (middle - 1 + u * (1 - top)) / (u * (top - middle))
    b = top * (1 + a) - 1
    pole, zero = (_root(value) for value in (a, b))
    scale = (1 - pole) / (1 - zero)
    numerator, denominator = scale * np.array([1, -zero]), np.array([1, -pole])
    return [*np.convolve(numerator, numerator), *np.convolve(denominator, denominator)]


def _root(value: float) -> float:
    """p inside the unit circle with value = 4 p / (1 - p)^2."""
    return (value + 2 - 2 * np.sqrt(value + 1)) / value if abs(value) > 1e-12 else 0.0
