"""Whether the correction did what was predicted."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band, octave_mean

# A microphone put back by hand stands up to 2 cm elsewhere. In 14 simulated rooms of 30 to 150 m3 that alone made the
# energy average of n spots differ by 0.37 dB from 40 to 500 Hz (median, n = 1; nine in ten below 0.73, all below 1.6;
# a third of that for n = 9), and a channel's level from 500 Hz to 2 kHz by 0.15 dB (standard deviation; the difference
# of two channels at a seat far back up to three times that). What goes beyond has another cause. The figures are our
# own; bench/rehearsal_figures.py makes them anew.
_PREDICTED_DB, _PREDICTED_ONE_DB = 0.3, 0.7
_LEVEL_DB, _LEVEL_ONE_DB = 0.15, 0.7
_THIRD_DB, _THIRD_ONE_DB = 1.5, 2.5
_COUNTS_DB = 0.05
TREBLE_HZ = 16_000.0
ARRIVAL_WITHIN_S = 0.25e-3  # between opposite sides, 2 cm off in either round: 4 times 58 us


def predicted_within_db(spots: int) -> float:
    """How far an average over so many spots may be from its prediction."""
    return _PREDICTED_DB + _PREDICTED_ONE_DB / np.sqrt(max(1, spots))


def level_within_db(spots: int) -> float:
    """How far the levels of channels may differ, each measured at so many spots."""
    return _LEVEL_DB + _LEVEL_ONE_DB / np.sqrt(max(1, spots))


def besides_within_db(spots: int) -> float:
    """How far a third of an octave of an average over so many spots may be from its prediction, up to the treble."""
    return _THIRD_DB + _THIRD_ONE_DB / np.sqrt(max(1, spots))


def is_closer(before_db: float, after_db: float) -> bool:
    """Whether a deviation is less than before by as much as counts; on Shape as predicted, on Prove as measured."""
    return after_db < before_db - _COUNTS_DB


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """Figures of one channel, RMS in dB over log frequency.

    `most_off_db` is the largest difference from the prediction of a third of an octave, at `most_off_hz`, from where
    the range begins up to 16 kHz, or to where a sub ends.
    """

    before_range_db: float
    after_range_db: float
    predicted_range_db: float
    before_whole_db: float
    after_whole_db: float
    predicted_against_measured_db: float
    most_off_db: float = 0.0
    most_off_hz: float = 0.0

    @property
    def improved(self) -> bool:
        return is_closer(self.before_range_db, self.after_range_db)


def deviation_db(
    frequency_hz: NDArray, level_db: NDArray, target_db: NDArray, *, band_hz: tuple[float, float]
) -> float:
    """RMS of level minus target over a band; points are taken as evenly spaced over log frequency."""
    inside = in_band(frequency_hz, band_hz)
    return float(np.sqrt(np.mean((level_db[inside] - target_db[inside]) ** 2)))


def judge(
    frequency_hz: NDArray,
    *,
    before_db: NDArray,
    predicted_db: NDArray,
    after_db: NDArray,
    target_db: NDArray,
    range_hz: tuple[float, float],
    plays_to_hz: float = TREBLE_HZ,
) -> Outcome:
    """Figures of one channel from its curves, each shape (points,), target at its level."""
    whole = (20.0, 20_000.0)
    inside = in_band(frequency_hz, (range_hz[0], max(plays_to_hz, range_hz[1])))
    off = octave_mean(frequency_hz, after_db - predicted_db, at_hz=frequency_hz, per_octave=3)
    most = int(np.argmax(np.where(inside, np.abs(off), -1.0)))

    def against_target(level: NDArray, band: tuple[float, float]) -> float:
        return deviation_db(frequency_hz, level, target_db, band_hz=band)

    return Outcome(
        before_range_db=against_target(before_db, range_hz),
        after_range_db=against_target(after_db, range_hz),
        predicted_range_db=against_target(predicted_db, range_hz),
        before_whole_db=against_target(before_db, whole),
        after_whole_db=against_target(after_db, whole),
        predicted_against_measured_db=deviation_db(frequency_hz, after_db, predicted_db, band_hz=range_hz),
        most_off_db=float(off[most]),
        most_off_hz=float(frequency_hz[most]),
    )
