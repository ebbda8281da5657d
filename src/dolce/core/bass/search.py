"""Filters of the common bass by a search over their taps."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.bass.cost import BassCost
from dolce.core.bass.lattice import TAPS_PER_S, tap_count

_MAINS_AT_FIRST_DB = -12.0


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundFilters:
    """Taps of shape (loudspeakers, taps), what they cost, and whether the search was ended before its time."""

    taps: NDArray[np.float64]
    cost: float
    stopped: bool = False


def searched(
    cost: BassCost,
    *,
    length_s: float,
    latency_s: float,
    steps: tuple[int, int],
    stopped: Callable[[], bool] = lambda: False,
    on_step: Callable[[], None] = lambda: None,
) -> FoundFilters:
    """Taps at the bottom of a cost, by L-BFGS: first levels as ratios, which no silent filter misleads, then in dB.

    References
    ----------
    R. H. Byrd, P. Lu, J. Nocedal and C. Zhu, "A limited memory algorithm for bound constrained optimization", SIAM
    Journal on Scientific Computing 16, 1190-1208 (1995).
    """
    ended = False

    def heard(intermediate_result: scipy.optimize.OptimizeResult) -> None:
        nonlocal ended
        on_step()
        if stopped():
            ended = True
            raise StopIteration  # scipy then returns what it has

    at = first_taps(cost, length_s=length_s, latency_s=latency_s)
    value = np.inf
    for in_db, count in ((False, steps[0]), (True, steps[1])):
        if ended:
            break
        found = scipy.optimize.minimize(
            lambda flat, in_db=in_db: cost.of_taps(flat, in_db=in_db),
            at.ravel(),
            jac=True,
            method="L-BFGS-B",
            callback=heard,
            options={"maxiter": count, "maxcor": 20, "maxfun": 2 * count},
        )
        at, value = found.x.reshape(at.shape), float(found.fun)
    return FoundFilters(taps=at, cost=value, stopped=ended)


def first_taps(cost: BassCost, *, length_s: float, latency_s: float) -> NDArray[np.float64]:
    """Every loudspeaker as it is, later by the latency, mains softer; at the level that is wanted."""
    names = cost.takes.names
    taps = np.zeros((len(names), tap_count(length_s)))
    late = min(max(round(latency_s * TAPS_PER_S) - 2, 0), taps.shape[1] - 1)
    taps[:, late] = [1.0 if sub else 10 ** (_MAINS_AT_FIRST_DB / 20) for sub in cost.takes.is_sub]
    return taps * 10 ** (-cost.above_target_db(cost.bass(cost.filters(taps))) / 20)
