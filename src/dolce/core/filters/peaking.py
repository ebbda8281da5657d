"""Peaking bands and chains of them."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from dolce.core.checked import limited, ranges
from dolce.core.filters.biquad import peaking_biquad


@dataclass(frozen=True, slots=True, kw_only=True)
class PeakingFilter:
    """One band: 5 Hz to 24 kHz, -30 to +15 dB, Q 0.1 to 50 (Q of the half of the gain in dB)."""

    frequency_hz: float = limited(5, 24_000, where="frequency", unit="Hz")
    gain_db: float = limited(-30, 15, where="gain", unit="dB")
    q: float = limited(0.1, 50, where="Q")

    def __post_init__(self) -> None:
        ranges(self)

    @property
    def width_octaves(self) -> float:
        """Bandwidth between the points of half the gain in dB."""
        return float(2 * np.arcsinh(1 / (2 * self.q)) / np.log(2))


def q_of_octaves(octaves: float) -> float:
    """Q of a bandwidth in octaves: sqrt(2^N) / (2^N - 1); one third gives 4.318."""
    return float(np.sqrt(2**octaves) / (2**octaves - 1))


def peaking_levels_db(frequency_hz: ArrayLike, gain_db: ArrayLike, q: ArrayLike, *, at_hz: NDArray,
                      sample_rate_hz: float) -> NDArray[np.float64]:
    """Level in dB of many peaking bands at once, shape (bands, points).

    Notes
    -----
    Magnitude of the Audio EQ Cookbook's biquad in closed form. With t = tan(w/2) / tan(w0/2), the bilinear image of
    the analogue prototype H(s) = (s^2 + s A/Q' + 1) / (s^2 + s/(A Q') + 1), s = jt, where the Cookbook's
    alpha = sin(w0) / 2Q is the prototype's bandwidth without further warping, so Q' = Q.
    """
    w0 = np.tan(np.pi * np.asarray(frequency_hz, dtype=float) / sample_rate_hz)[:, None]
    t = np.tan(np.pi * np.minimum(at_hz, 0.4999 * sample_rate_hz) / sample_rate_hz)[None, :] / w0
    a = 10 ** (np.asarray(gain_db, dtype=float) / 40)[:, None]
    own = np.asarray(q, dtype=float)[:, None]
    flat = (1 - t**2) ** 2
    side = (t / own) ** 2
    return 10 * np.log10((flat + side * a**2) / (flat + side / a**2))


def peaking_slopes_db(frequency_hz: ArrayLike, gain_db: ArrayLike, q: ArrayLike, *, at_hz: NDArray,
                      sample_rate_hz: float) -> NDArray[np.float64]:
    """Slopes of `peaking_levels_db`, shape (bands, 3, points): by log frequency, by gain in dB, by log Q."""
    turn = np.pi * np.asarray(frequency_hz, dtype=float)[:, None] / sample_rate_hz
    w0 = np.tan(turn)
    t = np.tan(np.pi * np.minimum(at_hz, 0.4999 * sample_rate_hz) / sample_rate_hz)[None, :] / w0
    square = 10 ** (np.asarray(gain_db, dtype=float) / 20)[:, None]                # A^2
    side = (t / np.asarray(q, dtype=float)[:, None]) ** 2
    flat = (1 - t**2) ** 2
    above, below = flat + side * square, flat + side / square
    by_q = 20 / np.log(10) * side * (1 / square / below - square / above)
    warp = turn * (1 + w0**2) / w0                                                  # d log w0 / d log f
    flat_slope, side_slope = 4 * t**2 * (1 - t**2) * warp, -2 * side * warp
    by_frequency = 10 / np.log(10) * ((flat_slope + side_slope * square) / above
                                      - (flat_slope + side_slope / square) / below)
    by_gain = 0.5 * side * (square / above + 1 / square / below)
    return np.stack([by_frequency, by_gain, by_q], axis=1)


def playable(filters: Sequence[PeakingFilter], *, sample_rate_hz: float) -> tuple[PeakingFilter, ...]:
    """The bands that exist at a sample rate: below half of it. Others would be unstable, and are left out."""
    return tuple(f for f in filters if f.frequency_hz < 0.495 * sample_rate_hz)


def chain_level_db(filters: Sequence[PeakingFilter], *, at_hz: NDArray, sample_rate_hz: float) -> NDArray[np.float64]:
    """Level in dB of all bands together that exist at the rate, shape (points,)."""
    filters = playable(filters, sample_rate_hz=sample_rate_hz)
    if not filters:
        return np.zeros(at_hz.size)
    return peaking_levels_db([f.frequency_hz for f in filters], [f.gain_db for f in filters],
                             [f.q for f in filters], at_hz=at_hz, sample_rate_hz=sample_rate_hz).sum(axis=0)


def chain_samples(filters: Sequence[PeakingFilter], samples: NDArray, *, sample_rate_hz: float) -> NDArray[np.float64]:
    """`samples` filtered by all bands in turn that exist at the rate, as a processor does it."""
    filters = playable(filters, sample_rate_hz=sample_rate_hz)
    if not filters:
        return samples
    sections = np.array([peaking_biquad(frequency_hz=f.frequency_hz, gain_db=f.gain_db, q=f.q,
                                        sample_rate_hz=sample_rate_hz).sos() for f in filters])
    return scipy.signal.sosfilt(sections, samples)
