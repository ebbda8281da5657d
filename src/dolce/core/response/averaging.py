"""Several spots together: average and spread."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import energy_mean_db, in_band
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpotAverage:
    """Average and spread over spots, each of shape (points,), in dB.

    Attributes
    ----------
    level_db : energy average by weight
    spread_db : standard deviation over the spots, by weight
    lowest_db, highest_db : range over the spots
    """

    level_db: NDArray[np.float64]
    spread_db: NDArray[np.float64]
    lowest_db: NDArray[np.float64]
    highest_db: NDArray[np.float64]


def average_over_spots(level_db: ArrayLike, *, weights: ArrayLike | None = None) -> SpotAverage:
    """Energy average and spread of levels, shape (spots, points).

    Raises
    ------
    InvalidValue
        If there is no spot, or the weights don't fit or sum to nothing.

    References
    ----------
    Spread as in T. Welti and A. Devantier, "Low-frequency optimization using multiple subwoofers",
    JAES 54, 347-364 (2006).
    """
    levels = np.asarray(level_db, dtype=np.float64)
    if levels.ndim != 2 or not len(levels):
        raise InvalidValue("no spots to average.", where="spots", remedy="Take at least one.")
    weight = np.ones(len(levels)) if weights is None else np.asarray(weights, dtype=np.float64)
    if weight.shape != (len(levels),) or np.any(weight < 0) or not weight.sum() > 0:
        raise InvalidValue(
            f"{weight.size} weights for {len(levels)} spots, or none above 0.",
            where="weights",
            remedy="Give one weight of 0 or more per spot.",
        )
    mean = np.average(levels, axis=0, weights=weight)
    variance = np.average((levels - mean) ** 2, axis=0, weights=weight)
    used = levels[weight > 0]
    return SpotAverage(
        level_db=energy_mean_db(levels, weights=weight),
        spread_db=np.sqrt(variance),
        lowest_db=used.min(axis=0),
        highest_db=used.max(axis=0),
    )


def mean_spread_db(frequency_hz: NDArray, average: SpotAverage, *, band_hz: tuple[float, float] = (20, 120)) -> float:
    """Mean over log frequency of the spread in a band: the figure for the bass (Welti & Devantier 2006)."""
    inside = in_band(frequency_hz, band_hz)
    return float(np.mean(average.spread_db[inside]))
