"""Bands as rows of numbers that a fit moves."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dolce.core.filters import BandFilter, BandKind, peaking_with_slopes_db, shelf_with_slopes_db

PEAKING, LOW_SHELF, HIGH_SHELF = 0.0, -1.0, 1.0
FITTED: dict[float, BandKind] = {PEAKING: "peaking", LOW_SHELF: "low shelf", HIGH_SHELF: "high shelf"}
COLUMNS = 4
VALUES = 3  # of a row that move in a fit: the kind does not
KIND = 3  # the column in which it stands

# Rows of one band each: logarithm of its frequency, its gain in dB, logarithm of its Q, its kind as above; or many such
# sets at once, shape (..., bands, 4).
Bands = NDArray[np.float64]
NONE: Bands = np.zeros((0, COLUMNS))


def band_row(frequency_hz: float, gain_db: float, q: float, kind: float = PEAKING) -> NDArray[np.float64]:
    """One band, shape (4,)."""
    return np.array([np.log(frequency_hz), gain_db, np.log(q), kind])


def rows_of(filters: Sequence[BandFilter]) -> Bands:
    """Filters of the kinds that are fitted, shape (bands, 4); the others are left out."""
    kinds = {name: kind for kind, name in FITTED.items()}
    return np.array(
        [band_row(f.frequency_hz, f.gain_db, f.q, kinds[f.kind]) for f in filters if f.kind in kinds]
    ).reshape(-1, COLUMNS)


def filter_of(row: NDArray) -> BandFilter:
    """One row as a filter."""
    return BandFilter(
        frequency_hz=float(np.exp(row[0])),
        gain_db=float(row[1]),
        q=float(np.exp(row[2])),
        kind=FITTED[float(row[KIND])],
    )


def with_values(x: NDArray, kinds: NDArray) -> Bands:
    """Values that a fit moved, shape (sets, 3 bands), as bands again."""
    return np.concatenate([x.reshape(*kinds.shape, VALUES), kinds[..., None]], axis=-1)


def levels_and_slopes(bands: Bands, *, at_hz: NDArray, sample_rate_hz: float) -> tuple[NDArray, NDArray]:
    """Level of every band in dB, shape (..., bands, points), and its slopes by each value, (..., bands, 3, points).

    Parameters
    ----------
    bands : shape (..., bands, 4)
    """
    flat = bands.reshape(-1, COLUMNS)
    frequency, gain, q, kind = np.exp(flat[:, 0]), flat[:, 1], np.exp(flat[:, 2]), flat[:, KIND]
    levels, slopes = peaking_with_slopes_db(frequency, gain, q, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
    shelf = kind != PEAKING
    if shelf.any():
        levels[shelf], slopes[shelf] = shelf_with_slopes_db(
            frequency[shelf],
            gain[shelf],
            q[shelf],
            kind[shelf] == LOW_SHELF,
            at_hz=at_hz,
            sample_rate_hz=sample_rate_hz,
        )
    shape = bands.shape[:-1]
    return levels.reshape(*shape, at_hz.size), slopes.reshape(*shape, VALUES, at_hz.size)
