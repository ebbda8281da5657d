"""A sound level meter: weighted, fast and slow, peak, hold and equivalent level, block by block."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.dsp import power_db
from dolce.core.levels.weighting import Weighting, weighting_sections

FAST_S, SLOW_S = 0.125, 1.0  # IEC 61672-1:2013, 5.8


@dataclass(frozen=True, slots=True, kw_only=True)
class MeterReading:
    """What the meter shows, in dB of the scale of the samples (a full-scale sine is 0 dBFS) plus the meter's offset.

    Attributes
    ----------
    fast_db, slow_db : float
        Exponential time weighting with 125 ms and 1 s.
    highest_fast_db, highest_slow_db : float
        The highest since the start.
    peak_db : float
        Highest weighted sample since the start, as a level of its square: a sine's is 3.01 dB above its RMS.
    equivalent_db : float
        Energy mean since the start.
    seconds : float
        Since the start.
    """

    fast_db: float
    slow_db: float
    highest_fast_db: float
    highest_slow_db: float
    peak_db: float
    equivalent_db: float
    seconds: float


class SoundLevelMeter:
    """Takes in blocks of samples and keeps its state between them.

    Parameters
    ----------
    offset_db : float
        Added to every level: 0 for dBFS, or what makes dB SPL of it.

    References
    ----------
    IEC 61672-1:2013: frequency weighting Annex E, time weighting 3.8 and 5.8, equivalent level 3.9.
    """

    def __init__(self, weighting: Weighting, *, sample_rate_hz: float, offset_db: float = 0.0) -> None:
        self._sections = weighting_sections(weighting, sample_rate_hz=sample_rate_hz)
        self._filter_state = np.zeros((len(self._sections), 2))
        self._rate = checked.within(sample_rate_hz, low=8_000, high=400_000, where="sample rate", unit="Hz")
        self._offset_db = offset_db
        self._poles = [np.exp(-1 / (constant * sample_rate_hz)) for constant in (FAST_S, SLOW_S)]
        self._mean_squares = [0.0, 0.0]
        self._highest = [0.0, 0.0]
        self._peak_square, self._sum, self._samples = 0.0, 0.0, 0

    def hear(self, samples: NDArray[np.float64]) -> MeterReading:
        """The reading after these samples too; they follow the ones before without a gap."""
        values = np.asarray(samples, dtype=float)
        if len(self._sections) and values.size:
            values, self._filter_state = scipy.signal.sosfilt(self._sections, values, zi=self._filter_state)
        square = values**2
        if square.size:
            for k, pole in enumerate(self._poles):
                course, _ = scipy.signal.lfilter([1 - pole], [1, -pole], square, zi=[pole * self._mean_squares[k]])
                self._mean_squares[k] = float(course[-1])
                self._highest[k] = max(self._highest[k], float(course.max()))
            self._peak_square = max(self._peak_square, float(square.max()))
            self._sum += float(square.sum())
            self._samples += square.size
        return self.reading

    @property
    def energy(self) -> float:
        """Sum of all weighted squares since the start."""
        return self._sum

    @property
    def reading(self) -> MeterReading:
        """What has been heard so far; silence before the first block."""

        def level(mean_square: float) -> float:
            return float(power_db(2 * mean_square)) + self._offset_db  # AES17: a full-scale sine is 0 dBFS

        return MeterReading(
            fast_db=level(self._mean_squares[0]),
            slow_db=level(self._mean_squares[1]),
            highest_fast_db=level(self._highest[0]),
            highest_slow_db=level(self._highest[1]),
            peak_db=float(power_db(2 * self._peak_square)) + self._offset_db,
            equivalent_db=level(self._sum / max(self._samples, 1)),
            seconds=self._samples / self._rate,
        )
