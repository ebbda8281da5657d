"""One channel's bass at every seat, before, as predicted and after: how much it varies from seat to seat."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Self

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.response import ANALYSIS_GRID_HZ, average_over_spots, mean_spread_db
from dolce.core.subs import BAND_HZ

SEATS_HZ = ANALYSIS_GRID_HZ[in_band(ANALYSIS_GRID_HZ, BAND_HZ)]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatsProof:
    """Energy means over the spots of each seat, shape (seats, points) at `SEATS_HZ`, relative to the target's level."""

    seats: tuple[str, ...]
    before_db: NDArray[np.float64]
    predicted_db: NDArray[np.float64]
    after_db: NDArray[np.float64]

    @classmethod
    def of(cls, before: NDArray, predicted: NDArray, after: NDArray, *, seat_of: Sequence[str]) -> Self | None:
        """Of levels at the same spots on the analysis grid, shape (spots, points); None for one seat alone."""
        seats = tuple(dict.fromkeys(seat_of))
        if len(seats) < 2:
            return None
        inside = in_band(ANALYSIS_GRID_HZ, BAND_HZ)
        rows = [[k for k, other in enumerate(seat_of) if other == seat] for seat in seats]
        return cls(
            seats=seats,
            **{
                name: np.array([energy_mean_db(levels[row][:, inside]) for row in rows])
                for name, levels in (("before_db", before), ("predicted_db", predicted), ("after_db", after))
            },
        )

    @property
    def spread_before_db(self) -> float:
        """Seat-to-seat variation, 20-120 Hz (Welti and Devantier, JAES 54, 2006)."""
        return _spread_db(self.before_db)

    @property
    def spread_predicted_db(self) -> float:
        return _spread_db(self.predicted_db)

    @property
    def spread_after_db(self) -> float:
        return _spread_db(self.after_db)


def _spread_db(by_seat_db: NDArray) -> float:
    return mean_spread_db(SEATS_HZ, average_over_spots(by_seat_db), band_hz=BAND_HZ)
