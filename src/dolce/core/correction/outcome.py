"""Whether the correction did what was predicted."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

# Bounds of the plain verdict, our own: what repeated takes of one state differ by, with a margin.
PREDICTED_WITHIN_DB = 0.5
LEVEL_WITHIN_DB = 0.2
ARRIVAL_WITHIN_S = 50e-6


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """Figures of one channel, RMS in dB over log frequency."""

    before_range_db: float
    after_range_db: float
    predicted_range_db: float
    before_whole_db: float
    after_whole_db: float
    predicted_against_measured_db: float

    @property
    def kept_its_promise(self) -> bool:
        return self.predicted_against_measured_db <= PREDICTED_WITHIN_DB

    @property
    def improved(self) -> bool:
        return self.after_range_db < self.before_range_db - 0.05


def deviation_db(frequency_hz: NDArray, level_db: NDArray, target_db: NDArray, *,
                 band_hz: tuple[float, float]) -> float:
    """RMS of level minus target over a band; points are taken as evenly spaced over log frequency."""
    inside = (frequency_hz >= band_hz[0]) & (frequency_hz <= band_hz[1])
    return float(np.sqrt(np.mean((level_db[inside] - target_db[inside]) ** 2)))


def judge(frequency_hz: NDArray, *, before_db: NDArray, predicted_db: NDArray, after_db: NDArray, target_db: NDArray,
          range_hz: tuple[float, float]) -> Outcome:
    """Figures of one channel from its curves, each shape (points,), target at its level."""
    whole = (20.0, 20_000.0)

    def against_target(level: NDArray, band: tuple[float, float]) -> float:
        return deviation_db(frequency_hz, level, target_db, band_hz=band)

    return Outcome(
        before_range_db=against_target(before_db, range_hz),
        after_range_db=against_target(after_db, range_hz),
        predicted_range_db=against_target(predicted_db, range_hz),
        before_whole_db=against_target(before_db, whole),
        after_whole_db=against_target(after_db, whole),
        predicted_against_measured_db=deviation_db(frequency_hz, after_db, predicted_db, band_hz=range_hz),
    )
