"""How alike seats hear the common bass, and how it lies in time."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.bass.aim import BassAim, band_grid_hz
from dolce.core.bass.lattice import FREQUENCY_HZ, TIME_S, in_time
from dolce.core.bass.takes import BassTakes
from dolce.core.dsp import crossover_sides, mid_bands
from dolce.core.subs.field import smoothing

_POINTS_PER_OCTAVE = 48.0
_LATE_FROM_HZ, _LATE_S, _LATE_TO_S = 25.0, 0.15, 1.4


@dataclass(frozen=True, slots=True, kw_only=True)
class BassFigures:
    """Figures of a sum at spots.

    Attributes
    ----------
    spread_db : float
        Standard deviation over the seats of their energy means, mean over the band; of one seat over its spots.
    deviation_db, worst_db : float
        RMS from the target of each spot at its own level: mean and largest.
    output_db : float
        Mean level against the incoherent sum of the subs at 0 dB each.
    early_10_db, early_20_db : float
        Energy that comes 10 and 20 ms ahead of the first main channel against all of it, at the worst spot.
    late_db : float
        Energy that comes more than 150 ms after it against all of it, mean over third octaves and spots.
    """

    spread_db: float
    deviation_db: float
    worst_db: float
    output_db: float
    early_10_db: float
    early_20_db: float
    late_db: float


class BassMeasure:
    """Figures of any sums at the same spots."""

    def __init__(self, takes: BassTakes, aim: BassAim) -> None:
        self.takes, self.aim = takes, aim
        self.seat_of, self._first_s = takes.seat_of, aim.first_s
        self.grid_hz = band_grid_hz(aim.low_hz, aim.hand_over_hz, per_octave=_POINTS_PER_OCTAVE)
        self._smooth = smoothing(FREQUENCY_HZ, self.grid_hz)
        self._target_db = np.interp(self.grid_hz, FREQUENCY_HZ, aim.target_db)
        self._alone_db = self._db((np.abs(takes.heard[list(takes.is_sub)]) ** 2).sum(axis=0))
        self._low_pass = crossover_sides(aim.hand_over_hz, FREQUENCY_HZ)[1]

    def at_spots(self, spots: Sequence[int]) -> "BassMeasure":
        """The same at some of the spots."""
        return BassMeasure(self.takes.at_spots(spots), self.aim.at_spots(spots))

    def _db(self, power: NDArray) -> NDArray[np.float64]:
        return 10 * np.log10(np.maximum(power @ self._smooth, 1e-20))

    def levels_db(self, bass: NDArray[np.complex128]) -> NDArray[np.float64]:
        """Levels over 1/12 octave, shape (spots, points)."""
        return self._db(np.abs(bass) ** 2)

    def seat_levels_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Energy means of the seats, shape (seats, points)."""
        seats = list(dict.fromkeys(self.seat_of))
        power = 10 ** (levels_db / 10)
        rows = [np.mean(power[[k for k, other in enumerate(self.seat_of) if other == seat]], axis=0) for seat in seats]
        return 10 * np.log10(rows)

    def spread_db(self, levels_db: NDArray[np.float64]) -> float:
        """See `BassFigures`."""
        seats = self.seat_levels_db(levels_db)
        return float((seats if len(seats) > 1 else levels_db).std(axis=0).mean())

    def deviations_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Of each spot, shape (spots,)."""
        off = levels_db - self._target_db
        return np.sqrt(np.mean((off - off.mean(axis=1, keepdims=True)) ** 2, axis=1))

    def outputs_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Of each spot, shape (spots,)."""
        return (levels_db - self._alone_db).mean(axis=1)

    def _late_db(self, bass: NDArray[np.complex128]) -> float:
        middles = mid_bands(per_octave=3, from_hz=_LATE_FROM_HZ, to_hz=self.aim.hand_over_hz)[:, None]
        off = (FREQUENCY_HZ / middles - middles / np.maximum(FREQUENCY_HZ, 1e-3)) / (2 ** (1 / 6) - 2 ** (-1 / 6))
        bands = 1 / np.sqrt(1 + np.minimum(np.abs(off), 1e3) ** 6)  # Butterworth of sixth order, without its phase
        energy = in_time(bands[:, None] * bass) ** 2
        late = (self._first_s[:, None] + _LATE_S < TIME_S) & (TIME_S < _LATE_TO_S)
        share = (energy * late).sum(axis=-1) / np.maximum(energy.sum(axis=-1), 1e-30)
        return float(10 * np.log10(np.maximum(share, 1e-9)).mean())

    def of(self, bass: NDArray[np.complex128]) -> BassFigures:
        """Figures of a sum of shape (spots, frequencies)."""
        levels = self.levels_db(bass)
        deviations = self.deviations_db(levels)
        energy = in_time(bass * self._low_pass) ** 2
        early = [
            max(
                float(e[first - ahead > TIME_S].sum() / e.sum()) for e, first in zip(energy, self._first_s, strict=True)
            )
            for ahead in (0.01, 0.02)
        ]
        early_10, early_20 = (10 * np.log10(max(part, 1e-9)) for part in early)
        return BassFigures(
            spread_db=self.spread_db(levels),
            deviation_db=float(deviations.mean()),
            worst_db=float(deviations.max()),
            output_db=float(self.outputs_db(levels).mean()),
            early_10_db=float(early_10),
            early_20_db=float(early_20),
            late_db=self._late_db(bass * self._low_pass),
        )
