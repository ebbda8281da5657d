"""Parametric bands and chains of them."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from dolce.core.checked import limited, ranges
from dolce.core.dsp import power_db
from dolce.core.filters.biquad import Biquad, all_pass_biquad, pass_biquad, peaking_biquad, shelf_biquad
from dolce.errors import InvalidValue

BandKind = Literal["peaking", "low shelf", "high shelf", "high-pass", "low-pass", "all-pass"]
BAND_KINDS: tuple[BandKind, ...] = ("peaking", "low shelf", "high shelf", "high-pass", "low-pass", "all-pass")


@dataclass(frozen=True, slots=True, kw_only=True)
class BandFilter:
    """One band: 5 Hz to 24 kHz, -30 to +15 dB, Q 0.1 to 50 (of peaking bands, Q of the half of the gain in dB).

    High- and low-passes (12 dB per octave) and all-passes have no gain.
    """

    frequency_hz: float = limited(5, 24_000, where="frequency", unit="Hz")
    gain_db: float = limited(-30, 15, where="gain", unit="dB")
    q: float = limited(0.1, 50, where="Q")
    kind: BandKind = "peaking"

    def __post_init__(self) -> None:
        ranges(self)
        if self.kind not in BAND_KINDS:
            raise InvalidValue(f"{self.kind!r} is no kind of band.", where="kind", remedy="Choose one of the list.")

    @property
    def has_gain(self) -> bool:
        return self.kind in ("peaking", "low shelf", "high shelf")

    @property
    def width_octaves(self) -> float:
        """Bandwidth between the points of half the gain in dB."""
        return float(2 * np.arcsinh(1 / (2 * self.q)) / np.log(2))

    def rounded(self) -> "BandFilter":
        """In the steps in which people type: frequency to 0.1 Hz below 100 Hz and to 1 Hz above, gain to 0.1 dB, Q to
        0.01.
        """
        at = self.frequency_hz
        return replace(
            self,
            frequency_hz=round(at, 1) if at < 100 else float(round(at)),
            gain_db=round(self.gain_db, 1),
            q=round(self.q, 2),
        )

    def biquad(self, *, sample_rate_hz: float) -> Biquad:
        """Coefficients at one sample rate."""
        at = {"frequency_hz": self.frequency_hz, "q": self.q, "sample_rate_hz": sample_rate_hz}
        match self.kind:
            case "low shelf" | "high shelf":
                return shelf_biquad(**at, gain_db=self.gain_db, low=self.kind == "low shelf")
            case "high-pass" | "low-pass":
                return pass_biquad(**at, high=self.kind == "high-pass")
            case "all-pass":
                return all_pass_biquad(**at)
            case "peaking":
                return peaking_biquad(**at, gain_db=self.gain_db)


def q_of_octaves(octaves: float) -> float:
    """Q of a bandwidth in octaves: sqrt(2^N) / (2^N - 1); one third gives 4.318."""
    return float(np.sqrt(2**octaves) / (2**octaves - 1))


def peaking_levels_db(
    frequency_hz: ArrayLike, gain_db: ArrayLike, q: ArrayLike, *, at_hz: NDArray, sample_rate_hz: float
) -> NDArray[np.float64]:
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
    q_values = np.asarray(q, dtype=float)[:, None]
    flat = (1 - t**2) ** 2
    side = (t / q_values) ** 2
    return 10 * np.log10((flat + side * a**2) / (flat + side / a**2))


def peaking_with_slopes_db(
    frequency_hz: ArrayLike, gain_db: ArrayLike, q: ArrayLike, *, at_hz: NDArray, sample_rate_hz: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """`peaking_levels_db`, and its slopes, shape (bands, 3, points): by log frequency, by gain in dB, by log Q.

    Notes
    -----
    Of the level's fraction above / below, each part is flat + side, where `flat` is alike; so with the shares that the
    sides have of them, u and v, the slope by gain is (u + v) / 2, and the others follow from v - u.
    """
    turn = np.pi * np.asarray(frequency_hz, dtype=float)[:, None] / sample_rate_hz
    w0 = np.tan(turn)
    t2 = (np.tan(np.pi * np.minimum(at_hz, 0.4999 * sample_rate_hz) / sample_rate_hz) / w0) ** 2
    square = 10 ** (np.asarray(gain_db, dtype=float) / 20)[:, None]  # A^2
    side = t2 / np.asarray(q, dtype=float)[:, None] ** 2
    rest = 1 - t2
    flat = rest**2
    above_share, below_share = side * square, side / square
    above, below = flat + above_share, flat + below_share
    above_share /= above
    below_share /= below
    warp = turn * (1 + w0**2) / w0  # d log w0 / d log f
    slopes = np.empty((len(side), 3, side.shape[-1]))
    np.add(above_share, below_share, out=slopes[:, 1])
    slopes[:, 1] *= 0.5
    np.subtract(below_share, above_share, out=slopes[:, 2])
    slopes[:, 2] *= 20 / np.log(10)
    # d flat = 4 t^2 (1 - t^2) warp, times 1 / above - 1 / below.
    t2 *= rest
    t2 *= side
    t2 /= above * below
    t2 *= 40 / np.log(10) * warp * (1 / square - square)
    np.multiply(slopes[:, 2], warp, out=slopes[:, 0])
    slopes[:, 0] += t2
    above /= below
    return 10 / np.log(10) * np.log(above), slopes


def shelf_with_slopes_db(
    frequency_hz: ArrayLike, gain_db: ArrayLike, q: ArrayLike, low: ArrayLike, *, at_hz: NDArray, sample_rate_hz: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Level in dB of many shelves, shape (bands, points), and its slopes, shape (bands, 3, points), as above.

    Parameters
    ----------
    low : shape (bands,), of bool
        Low shelves; the others are high ones.

    Notes
    -----
    As above, of the Cookbook's lowShelf: H(s) = A (s^2 + s sqrt(A)/Q + A) / (A s^2 + s sqrt(A)/Q + 1); a high shelf is
    the same of 1/s.
    """
    turn = np.pi * np.asarray(frequency_hz, dtype=float)[:, None] / sample_rate_hz
    w0 = np.tan(turn)
    t = np.tan(np.pi * np.minimum(at_hz, 0.4999 * sample_rate_hz) / sample_rate_hz)[None, :] / w0
    low = np.asarray(low, dtype=bool)[:, None]
    square = np.where(low, t, 1 / t) ** 2
    a = 10 ** (np.asarray(gain_db, dtype=float) / 40)[:, None]
    width = 1 / np.asarray(q, dtype=float)[:, None] ** 2
    side = a * square * width
    above, below = (a - square) ** 2 + side, (1 - a * square) ** 2 + side
    per = 10 / np.log(10)
    # A point's distance from the corner falls as the corner rises, and grows for a shelf that looks the other way.
    moved = np.where(low, -1.0, 1.0) * turn * (1 + w0**2) / w0
    by_frequency = (
        per
        * moved
        * ((-4 * square * (a - square) + 2 * side) / above - (-4 * a * square * (1 - a * square) + 2 * side) / below)
    )
    by_a = per * (
        (2 * (a - square) + square * width) / above - (-2 * square * (1 - a * square) + square * width) / below
    )
    by_gain = 0.5 + by_a * a * np.log(10) / 40
    by_q = per * -2 * side * (1 / above - 1 / below)
    level = 20 * np.log10(a) + per * np.log(above / below)
    return level, np.stack([by_frequency, by_gain, by_q], axis=1)


def playable(filters: Sequence[BandFilter], *, sample_rate_hz: float) -> tuple[BandFilter, ...]:
    """The bands that exist at a sample rate: below half of it. Others would be unstable, and are left out."""
    return tuple(f for f in filters if f.frequency_hz < 0.495 * sample_rate_hz)


def chain_level_db(filters: Sequence[BandFilter], *, at_hz: NDArray, sample_rate_hz: float) -> NDArray[np.float64]:
    """Level in dB of all bands together that exist at the rate, shape (points,)."""
    filters = playable(filters, sample_rate_hz=sample_rate_hz)
    total = np.zeros(at_hz.size)
    peaking = [f for f in filters if f.kind == "peaking"]
    if peaking:
        total += peaking_levels_db(
            [f.frequency_hz for f in peaking],
            [f.gain_db for f in peaking],
            [f.q for f in peaking],
            at_hz=at_hz,
            sample_rate_hz=sample_rate_hz,
        ).sum(axis=0)
    others = [f for f in filters if f.kind not in ("peaking", "all-pass")]
    if others:
        response = scipy.signal.freqz_sos(
            chain_sections(others, sample_rate_hz=sample_rate_hz),
            worN=np.minimum(at_hz, 0.4999 * sample_rate_hz),
            fs=sample_rate_hz,
        )[1]
        total += power_db(np.abs(response) ** 2)
    return total


def chain_sections(filters: Sequence[BandFilter], *, sample_rate_hz: float) -> NDArray[np.float64]:
    """Second-order sections of all bands that exist at the rate, shape (bands, 6)."""
    return np.array(
        [f.biquad(sample_rate_hz=sample_rate_hz).sos() for f in playable(filters, sample_rate_hz=sample_rate_hz)]
    ).reshape(-1, 6)


def chain_samples(filters: Sequence[BandFilter], samples: NDArray, *, sample_rate_hz: float) -> NDArray[np.float64]:
    """`samples` filtered by all bands in turn that exist at the rate, as a processor does it."""
    sections = chain_sections(filters, sample_rate_hz=sample_rate_hz)
    return scipy.signal.sosfilt(sections, samples) if len(sections) else samples
