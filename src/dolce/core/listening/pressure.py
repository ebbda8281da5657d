"""How loud each band gets while programme plays: its mean, and its highest."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import band_edges, mid_bands, power_db

_FAST_S = 0.125
_FINE, _ENOUGH = 8, 8192  # samples of an envelope for each line of its band; twice as many are the least, and
#                                    more than these are not needed beside 125 ms


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BandPressure:
    """Levels in third octaves.

    Attributes
    ----------
    frequency_hz : ndarray, shape (bands,)
        Exact mid-bands.
    mean_db, highest_db : ndarray, shape (bands,)
        RMS over the passage, and the highest with time weighting fast; a full-scale sine is 0 dB.
    """

    frequency_hz: NDArray[np.float64]
    mean_db: NDArray[np.float64]
    highest_db: NDArray[np.float64]


def pressure_by_band(
    sample: NDArray, *, sample_rate_hz: int, from_hz: float = 20.0, to_hz: float = 20_000.0
) -> BandPressure:
    """Third-octave levels of a passage that goes round, shape (samples,).

    References
    ----------
    Bands: IEC 61260-1:2014, parted by their edges alone (steeper than class 1 asks). Fast: 125 ms, IEC 61672-1:2013.
    """
    mid = mid_bands(per_octave=3, from_hz=from_hz * 0.98, to_hz=min(to_hz * 1.02, 0.42 * sample_rate_hz))
    size = sample.size
    spectrum = scipy.fft.rfft(np.asarray(sample, dtype=float)) / size
    grid = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    mean, highest = np.empty(mid.size), np.empty(mid.size)
    for k, (low, high) in enumerate(zip(*band_edges(mid, per_octave=3), strict=True)):
        lines = 2 * spectrum[slice(*np.searchsorted(grid, (low, high)))]  # of the analytic signal
        points = scipy.fft.next_fast_len(max(2 * lines.size, min(_FINE * max(lines.size, 16), _ENOUGH)))
        power = np.abs(scipy.fft.ifft(lines, points) * points) ** 2  # a full-scale sine gives 1 throughout
        fast = np.exp(-np.arange(points) * (size / sample_rate_hz / points) / _FAST_S)
        smooth = scipy.fft.irfft(scipy.fft.rfft(power) * scipy.fft.rfft(fast / fast.sum()), points)
        mean[k], highest[k] = power_db(power.mean()), power_db(smooth.max())
    return BandPressure(frequency_hz=mid, mean_db=mean, highest_db=highest)
