"""Target curves and the level at which they are hung."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """Flat, with a bass lift and a tilt.

    Attributes
    ----------
    bass_lift_db : float
        -6 to 15, reached well below `bass_corner_hz`; half of it at that frequency.
    bass_corner_hz : float
        30 to 300.
    tilt_db_per_octave : float
        -3 to 3, above `tilt_from_hz`.
    tilt_from_hz : float
        100 to 10000.
    """

    bass_lift_db: float = limited(-6, 15, where="bass lift", unit="dB", default=0.0)
    bass_corner_hz: float = limited(30, 300, where="bass lift below", unit="Hz", default=80.0)
    tilt_db_per_octave: float = limited(-3, 3, where="tilt", unit="dB per octave", default=0.0)
    tilt_from_hz: float = limited(100, 10_000, where="tilt from", unit="Hz", default=1000.0)

    def __post_init__(self) -> None:
        ranges(self)

    def level_db(self, frequency_hz: NDArray) -> NDArray[np.float64]:
        """Target in dB relative to its own middle, shape as given."""
        lift = self.bass_lift_db / (1 + (frequency_hz / self.bass_corner_hz) ** 3)
        octaves = np.maximum(np.log2(frequency_hz / self.tilt_from_hz), 0)
        return lift + self.tilt_db_per_octave * octaves


def anchored_level_db(frequency_hz: NDArray, level_db: NDArray, target_db: NDArray, *,
                      band_hz: tuple[float, float]) -> float:
    """Level at which the target meets the response on average over a band (dB mean over log frequency).

    Raises
    ------
    InvalidValue
        If the band holds no point.
    """
    inside = (frequency_hz >= band_hz[0]) & (frequency_hz <= band_hz[1])
    checked.within(int(inside.sum()), low=1, high=inside.size, where="level from: points in the band")
    return float(np.mean(level_db[inside] - target_db[inside]))
