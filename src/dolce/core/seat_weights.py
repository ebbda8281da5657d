"""How much every spot counts: seats have weights, and the spots of a seat share its weight."""

from collections import Counter
from collections.abc import Hashable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from dolce.errors import InvalidValue


def spot_weights_of(
    seat_of: Sequence[Hashable], weights: Mapping | None = None, *, others: float = 0.0
) -> NDArray[np.float64]:
    """Weight of each spot, shape (spots,).

    Parameters
    ----------
    seat_of : the seat of each spot; None for a spot of no seat, which counts nothing
    weights : weight of each seat; None for 1 each
    others : weight of seats that are not named

    Raises
    ------
    InvalidValue
        If no spot has a weight above 0.

    Notes
    -----
    A seat counts by its weight however many spots it has. Searches, fits, averages, spreads and proofs all weigh spots
    by this function.
    """
    spots = Counter(seat_of)
    found = np.array(
        [
            0.0 if seat is None else (1.0 if weights is None else weights.get(seat, others)) / spots[seat]
            for seat in seat_of
        ]
    )
    if not np.any(found > 0):
        raise InvalidValue(
            "no spot belongs to a seat with a weight.", where="weights", remedy="Give one seat more than 0, and spots."
        )
    return found
