"""Parametric bands, all fitted together, none against its neighbour."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.fit_problem import APART_OCTAVES, WORTH_DB, Bands, FitProblem
from dolce.core.correction.plan import CorrectionPlan, Limits
from dolce.core.filters import PeakingFilter, q_of_octaves

_OPPOSED = (1.0, 4.0)            # weights of opposition, one after the other
_APART = APART_OCTAVES + 0.01    # rounding takes a little
_NEW_Q, _NEW_PLACES = 3.0, 3     # where another band is tried
_BETTER = 0.995                  # of the cost; what gains less is not worth a change
_EXCHANGES, _TRIED = 1, 2
_SAME_OCTAVES = 0.15             # bands of one sign nearer than that may do as one


def fit_bands(plan: CorrectionPlan, *, limits: Limits, sample_rate_hz: float) -> tuple[PeakingFilter, ...]:
    """Peaking bands that come closest to a plan within its limits.

    From two starts (bands one by one at the largest error; bands evenly over the range) all frequencies, gains and Qs
    are fitted together by least squares with bounds. Limits enter as steep penalties (sum of all bands, also relative
    to its mean over 200-2000 Hz; how far that mean sinks; quiet outside the range), and so do neighbours of opposite
    sign within a third of an octave: they would fight each other, spend headroom and hold at one place only. Where some
    are left, the weaker goes. Bands that are free then are put where most is left, and those that do least are tried
    elsewhere; two that do as well as one become one. What is still broken after rounding is repaired by shrinking
    gains, so the limits hold exactly.

    Rounding: frequency to 0.1 Hz below 100 Hz and to 1 Hz above, gain to 0.1 dB, Q to 0.01.

    References
    ----------
    G. Ramos and J. J. Lopez, "Filter design method for loudspeaker equalization based on IIR parametric filters",
    JAES 54, 1162-1178 (2006), for the start; the joint fit and the search follow our trials on simulated rooms.
    """
    problem = FitProblem(plan, limits, sample_rate_hz)
    found = [_filled(problem, _settled(problem, start)) for start in (_one_by_one(problem), _evenly(problem))]
    exchanged = _exchanged(problem, min(found, key=problem.cost))
    bands = _merged(problem, exchanged)
    if len(bands) < len(exchanged):
        bands = _filled(problem, bands)
    fine = problem.polished(bands, opposed=_OPPOSED[-1], finely=True)
    filters = problem.repaired(problem.rounded(bands if _fights(fine) else fine))
    return tuple(sorted(filters, key=lambda f: f.frequency_hz))


def opposing(frequency_hz: NDArray, gain_db: NDArray, *, within_octaves: float = APART_OCTAVES) -> list[int]:
    """Numbers of bands, in order of frequency, that the next one opposes so near by."""
    return [int(k) for k in np.flatnonzero(
        (gain_db[:-1] * gain_db[1:] < 0) & (np.diff(np.log2(frequency_hz)) < within_octaves))]


def _one_by_one(problem: FitProblem) -> Bands:
    """Start: one band after the other at the largest weighted error, as wide as the error there."""
    bands, octave = np.empty((0, 3)), np.log2(problem.at_hz)
    left = problem.wish
    for _ in range(problem.limits.bands):
        k = int(np.argmax(np.abs(left) * problem.root))
        if abs(left[k]) * problem.root[k] < WORTH_DB:
            break
        same = (np.sign(left) == np.sign(left[k])) & (np.abs(left) > abs(left[k]) / 2)
        low = high = k
        while low > 0 and same[low - 1]:
            low -= 1
        while high < left.size - 1 and same[high + 1]:
            high += 1
        q = q_of_octaves(max(octave[high] - octave[low], 0.08))
        bands = np.vstack([bands, _within(problem, problem.at_hz[k], left[k], q)])
        left = problem.wish - problem.total(bands)
    return bands


def _evenly(problem: FitProblem) -> Bands:
    """Start: bands evenly over the range, each with the gain that is wished there."""
    limits = problem.limits
    return np.array([_within(problem, frequency, np.interp(frequency, problem.at_hz, problem.wish), _NEW_Q)
                     for frequency in np.geomspace(limits.from_hz * 1.05, limits.to_hz * 0.95, limits.bands)])


def _within(problem: FitProblem, frequency_hz: float, gain_db: float, q: float) -> NDArray:
    return np.clip([np.log(frequency_hz), gain_db, np.log(q)], problem.low_bounds, problem.high_bounds)


def _settled(problem: FitProblem, bands: Bands) -> Bands:
    """All bands fitted together, ever harder against opposition; of neighbours that still fight, the weaker goes."""
    for weight in _OPPOSED:
        bands = problem.polished(bands, opposed=weight)
    while fights := _fights(bands):
        first = min(fights, key=lambda k: min(abs(bands[k, 1]), abs(bands[k + 1, 1])))
        weaker = first if abs(bands[first, 1]) < abs(bands[first + 1, 1]) else first + 1
        bands = problem.polished(np.delete(bands, weaker, axis=0), opposed=_OPPOSED[-1])
    return bands[np.abs(bands[:, 1]) >= WORTH_DB]


def _fights(bands: Bands) -> list[int]:
    return opposing(np.exp(bands[:, 0]), bands[:, 1], within_octaves=_APART)


def _filled(problem: FitProblem, bands: Bands) -> Bands:
    """More bands up to the limit, each where most is left and no neighbour opposes it."""
    while len(bands) < problem.limits.bands:
        tried = [problem.polished(np.vstack([bands, new]), opposed=_OPPOSED[-1]) for new in _new_bands(problem, bands)]
        better = [one for one in tried if not _fights(one)]
        best = min(better, key=problem.cost, default=bands)
        if problem.cost(best) >= _BETTER * problem.cost(bands):
            break
        bands = best
    return bands


def _new_bands(problem: FitProblem, bands: Bands) -> list[NDArray]:
    """Single bands at the largest errors that no band of the other sign is near."""
    octave = np.log2(problem.at_hz)
    left = np.convolve((problem.wish - problem.total(bands)) * problem.root, np.ones(5) / 5, "same")
    found: list[NDArray] = []
    for k in np.argsort(-np.abs(left)):
        others = bands[bands[:, 1] * left[k] < 0, 0] / np.log(2)
        near = [*others[np.abs(others - octave[k]) < _APART],
                *(new for new in found if abs(new[0] / np.log(2) - octave[k]) < _APART)]
        if problem.inside[k] and not near:
            found.append(_within(problem, problem.at_hz[k], left[k], _NEW_Q))
        if len(found) == _NEW_PLACES:
            break
    return found


def _merged(problem: FitProblem, bands: Bands) -> Bands:
    """Without one of two bands of the same sign that stand at almost the same place, where the rest does as well."""
    while True:
        close = np.flatnonzero((np.diff(bands[:, 0]) < _SAME_OCTAVES * np.log(2)) & (bands[:-1, 1] * bands[1:, 1] > 0))
        fewer = [problem.polished(np.delete(bands, k, axis=0), opposed=_OPPOSED[-1]) for k in (*close, *(close + 1))]
        good = [one for one in fewer if not _fights(one) and problem.cost(one) * _BETTER < problem.cost(bands)]
        if not good:
            return bands
        bands = min(good, key=problem.cost)


def _exchanged(problem: FitProblem, bands: Bands) -> Bands:
    """The bands that do least are taken out, as long as the room they leave is of more use elsewhere."""
    for _ in range(_EXCHANGES):
        without = [np.delete(bands, k, axis=0) for k in range(len(bands))]
        for rest in sorted(without, key=problem.cost)[:_TRIED]:
            tried = _filled(problem, problem.polished(rest, opposed=_OPPOSED[-1]))
            if not _fights(tried) and problem.cost(tried) < _BETTER * problem.cost(bands):
                bands = tried
                break
        else:
            break
    return bands
