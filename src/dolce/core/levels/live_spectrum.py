"""A running power spectrum, and its levels in bands from thirds to twenty-fourths of an octave."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.dsp import band_edges, mid_bands, power_db
from dolce.errors import InvalidValue

PER_OCTAVE = (3, 6, 12, 24)
_FRAME_S = 1.2  # at least: lines at 0.8 Hz or closer
_FROM_HZ, _TO_HZ = 20.0, 20_000.0


class LiveSpectrum:
    """Takes in blocks of one or more microphones; their powers are averaged.

    Frames of 1.2 s or more under a Hann window follow each other at a quarter of their length. Their powers are
    averaged either over all frames since the start (`average_s` None) or by exponential weights of a time constant.

    References
    ----------
    P. D. Welch, "The use of fast Fourier transform for the estimation of power spectra", 1967.
    """

    def __init__(self, *, sample_rate_hz: int, average_s: float | None = None) -> None:
        self.sample_rate_hz, self.average_s = sample_rate_hz, average_s
        self.frame = 1 << int(np.ceil(np.log2(_FRAME_S * sample_rate_hz)))
        self._hop = self.frame // 4
        self._window = scipy.signal.windows.hann(self.frame)
        # One-sided power per line; a full-scale sine sums to 1 (0 dBFS, AES17) over its lines.
        self._scale = 4.0 / (np.sum(self._window**2) * self.frame)
        self.reset()

    def reset(self) -> None:
        """Forget what was heard."""
        self._heard = np.zeros((0, 0))
        self._power = np.zeros(self.frame // 2 + 1)
        self.frames = 0

    @property
    def seconds(self) -> float:
        """How much sound is in the average."""
        return 0.0 if not self.frames else (self.frame + (self.frames - 1) * self._hop) / self.sample_rate_hz

    def hear(self, samples: NDArray[np.float64]) -> None:
        """Take in a block, shape (microphones, samples)."""
        samples = np.atleast_2d(samples)
        if self._heard.shape[0] != samples.shape[0]:
            self._heard = np.zeros((samples.shape[0], 0))
        self._heard = np.concatenate([self._heard, samples], axis=1)
        while self._heard.shape[1] >= self.frame:
            power = np.mean(np.abs(scipy.fft.rfft(self._heard[:, : self.frame] * self._window, axis=1)) ** 2, axis=0)
            self.frames += 1
            share = 1 / self.frames
            if self.average_s is not None:
                share = max(share, 1 - np.exp(-self._hop / self.sample_rate_hz / self.average_s))
            self._power += share * (self._scale * power - self._power)
            self._heard = self._heard[:, self._hop :]

    @property
    def power(self) -> NDArray[np.float64]:
        """Power per line, shape (lines,): lines at k * sample_rate_hz / frame; a full-scale sine sums to 1."""
        return self._power

    def bands(self, *, per_octave: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Mid-band frequencies and levels in dBFS; empty before the first frame.

        Bands with straight edges (IEC 61260-1's edges, not its filters); where a band is narrower than the lines
        stand apart, it gets its share of them.

        Raises
        ------
        InvalidValue
            If `per_octave` is not offered.
        """
        if per_octave not in PER_OCTAVE:
            raise InvalidValue(
                f"1/{per_octave} octave is not offered.", where="bands", remedy="Choose 1/3, 1/6, 1/12 or 1/24."
            )
        mid, _, _ = _band_lines(per_octave, self.sample_rate_hz, self.frame)
        if not self.frames:
            return mid, np.zeros(0)
        return mid, band_power_db(self._power, per_octave=per_octave, sample_rate_hz=self.sample_rate_hz)


def band_power_db(power: NDArray[np.float64], *, per_octave: int, sample_rate_hz: int) -> NDArray[np.float64]:
    """Levels of bands with straight edges from power per line, shape (lines,), of a frame of 2 (lines - 1) samples."""
    _, low, high = _band_lines(per_octave, sample_rate_hz, 2 * (power.size - 1))
    # Line k stands for k - 1/2 to k + 1/2: the running sum between two edges is what a band holds.
    running = np.concatenate([[0.0], np.cumsum(power)])
    at = np.arange(running.size) - 0.5
    return power_db(np.interp(high, at, running) - np.interp(low, at, running))


@cache(16)
def _band_lines(per_octave: int, sample_rate_hz: int, frame: int) -> tuple[NDArray, NDArray, NDArray]:
    """Mid-band frequencies, and both edges counted in lines."""
    mid = mid_bands(per_octave=per_octave, from_hz=_FROM_HZ * 0.98, to_hz=min(_TO_HZ * 1.02, 0.45 * sample_rate_hz))
    low, high = band_edges(mid, per_octave=per_octave)
    step = sample_rate_hz / frame
    return mid, low / step, high / step
