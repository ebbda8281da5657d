"""How sure a figure is that was averaged over few spots."""

from collections.abc import Callable, Hashable, Sequence

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

SURE = 0.95  # share of cases that intervals hold where nothing else is said
# Against a bound only one side counts: an interval that holds 90 of 100 leaves 5 beyond it on that side, so that what
# is said of the bound is right in 95 of 100 cases.
AGAINST_BOUND = 0.90


def freedom_of(weights: ArrayLike) -> float:
    """Degrees of freedom of the scatter of weighted values: one less than their number where weights are equal, and
    fewer where they are not; 0 for one value (F. E. Satterthwaite, Biometrics Bulletin 2, 110-114, 1946).
    """
    part = np.asarray(weights, dtype=float) / np.sum(weights)
    squares, cubes = float(np.sum(part**2)), float(np.sum(part**3))
    if squares > 1 - 1e-9:
        return 0.0
    return (1 - squares) ** 2 / (squares - 2 * cubes + squares**2)


def student_factor(weights: ArrayLike, *, share: float = SURE) -> float:
    """Standard errors on either side of a weighted mean that hold the truth in a share of cases; infinite for one.

    References
    ----------
    Student (W. S. Gosset), "The probable error of a mean", Biometrika 6, 1-25 (1908).
    """
    return _student(freedom_of(weights), share)


def _student(freedom: float, share: float) -> float:
    return float(scipy.special.stdtrit(freedom, 0.5 + share / 2)) if freedom else np.inf


def effective_count(weights: ArrayLike) -> float:
    """How many equally weighted values tell as much: 1 / sum of squares of the shares (L. Kish, "Survey Sampling",
    1965).
    """
    share = np.asarray(weights, dtype=float) / np.sum(weights)
    return 1 / float(np.sum(share**2))


def jackknife_error(
    statistic: Callable[[NDArray], ArrayLike], weights: ArrayLike, *, share: float = SURE
) -> NDArray[np.float64]:
    """Half of the interval of a statistic of weighted spots that holds the truth in a share of cases.

    Parameters
    ----------
    statistic : function of the numbers of the spots that count, at least one
    weights : shape (spots,)
        Of a spot with weight 0 nothing is learned.

    Returns
    -------
    ndarray, shape of the statistic; infinite for one spot

    Notes
    -----
    Every spot is left out in turn (B. Efron and R. Tibshirani, "An introduction to the bootstrap", 1993, ch. 11); of
    unequal weights, what one spot moves is held against its share of the mean. Student's factor on top, since few spots
    tell little of their own scatter.
    """
    weight = np.asarray(weights, dtype=float)
    rows = np.flatnonzero(weight > 0)
    whole = np.asarray(statistic(rows), dtype=float)
    if rows.size < 2:
        return np.full(whole.shape, np.inf)
    part = weight[rows] / weight[rows].sum()
    moved = np.array([statistic(rows[rows != k]) for k in rows]) - whole
    single = moved * ((1 - part) / part).reshape(-1, *(1,) * whole.ndim)  # what each spot is off by itself
    squares = np.sum(part**2)
    variance = squares / (1 - squares) * np.tensordot(part, single**2, axes=1)
    return student_factor(part, share=share) * np.sqrt(variance)


def mean_error(
    values: ArrayLike, weights: ArrayLike, *, seat_of: Sequence[Hashable] | None = None, share: float = SURE
) -> float:
    """Half of the interval of a weighted mean over spots that holds the truth in a share of cases; infinite for one.

    Parameters
    ----------
    values, weights : shape (spots,); weights above 0
    seat_of : the seat of each spot; None where they stand around one

    Notes
    -----
    Spots are put around every seat on purpose, so what seats differ by is no chance: only the scatter of spots around
    the same seat counts, pooled over the seats (stratified sampling: W. G. Cochran, "Sampling Techniques", 3rd ed.,
    1977, ch. 5). Where fewer than half of the degrees of freedom are left by that, all spots are taken as one sample,
    which says rather too much.
    """
    value, part = np.asarray(values, dtype=float), np.asarray(weights, dtype=float) / np.sum(weights)
    seats = list(seat_of) if seat_of is not None else [None] * value.size
    groups = [np.array([other == seat for other in seats]) for seat in dict.fromkeys(seats)]
    if sum(freedom_of(part[group]) for group in groups) < freedom_of(part) / 2:
        groups = [np.ones(value.size, dtype=bool)]
    squares = counts = freedom = 0.0
    for group in groups:
        of_seat, within = part[group] / part[group].sum(), value[group]
        effective = effective_count(of_seat)
        squares += effective * float(of_seat @ (within - of_seat @ within) ** 2)
        counts += effective - 1
        freedom += freedom_of(of_seat)
    spread = np.sqrt(squares / max(counts, 0.5))
    return _student(freedom, share) * float(spread * np.sqrt(np.sum(part**2))) if freedom else np.inf


def pooled_difference_error(values: NDArray, weights: ArrayLike, *, share: float = SURE) -> float:
    """Half of the interval of the difference of two rows' weighted means, with the scatter that all rows share.

    Parameters
    ----------
    values : ndarray, shape (rows, spots)
        Such as levels of channels at the same spots: rows that scatter alike tell more of it than two of them.
    weights : shape (spots,)

    Notes
    -----
    Variances are pooled (any text on the t test of two means); rows are taken as independent of each other.
    """
    weight = np.asarray(weights, dtype=float)
    values, weight = values[:, weight > 0], weight[weight > 0]
    part = weight / weight.sum()
    squares = float(np.sum(part**2))
    if squares > 1 - 1e-9:
        return float(np.inf)
    off = values - (values @ part)[:, None]
    variance = float(np.mean(off**2 @ part)) / (1 - squares)
    return _student(len(values) * freedom_of(part), share) * float(np.sqrt(2 * variance * squares))
