"""How the best bands are looked for: many sets that are crossed, changed and fitted, generation by generation."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.band_rows import HIGH_SHELF, KIND, LOW_SHELF, NONE, Bands, band_row
from dolce.core.correction.fit_problem import WORTH_DB, FitProblem
from dolce.core.filters import q_of_octaves

_NEW_Q, _NEW_PLACES = 4.0, 3  # where another band is tried
_NEW_APART = 1 / 3  # octaves between these
_RANDOM_Q = (1.2, 12.0)  # of a band that chance puts somewhere
_SHELF_Q, _SHELF_OCTAVES = 0.7, (0.7, 1.6)  # of a shelf that is tried: how far inside the end of the range it turns
_SHORT, _FIRST, _SEED = 8, 25, 14  # steps of fits that only compare; of the starts; of all that chance decides
_CROSSED, _SHELVED = 0.6, 0.1  # share of children with two parents; of new bands that are shelves where one may stand
_DISTINCT = 1e-3  # of the best cost: sets that differ by less are the same
_WORTH_CUTTING_DB = 1.0  # what is less of a hill comes after the dips in a start that cuts first
_NO_USE = 1.001  # of the cost: a band whose loss raises it by less goes
_AS_WELL = 0.98  # of the cost: two that gain no more than that over one are one
_SAME_OCTAVES = 0.15  # bands of one sign nearer than that may do as one


@dataclass(frozen=True, slots=True, kw_only=True)
class Effort:
    """How long the best bands are looked for.

    Attributes
    ----------
    islands : populations that know nothing of each other until their best meet
    starts : of each, moved by chance, besides those that follow from the desired correction
    kept, children : sets of bands that are kept from one generation to the next, and that are made of them in each
    generations : at most so many, ...
    patience : ... until so many have found nothing better
    finalists : of many sets to compare, so many are fitted to the end
    exchanges : rounds in which each band of the best set is tried elsewhere
    better : part of the cost; what gains less is not worth a change
    """

    islands: int
    starts: int
    kept: int
    children: int
    generations: int
    patience: int
    finalists: int
    exchanges: int
    better: float


def best_bands(
    problem: FitProblem, effort: Effort, on_progress: Callable[[], None], *, near: Bands | None = None
) -> Bands:
    """As many bands as are allowed, or fewer that do as well, none of which opposes another.

    With `near`, a set that is good for nearly the same problem, it is looked for from there, by one population.

    Sets of bands are fitted from many starts, then crossed (the lower bands of one, the upper ones of another: what
    bands do is local, so good halves make good wholes) and changed (some go, others come where much is missed), each
    child fitted a few steps, and the best kept; after that each band of the best set is tried elsewhere. All chance is
    the same every time. `on_progress` is called between the steps, and may raise.

    References
    ----------
    G. Ramos and J. J. Lopez, "Filter design method for loudspeaker equalization based on IIR parametric filters",
    JAES 54, 1162-1178 (2006), for the start; P. Moscato, "On evolution, search, optimization, genetic algorithms and
    martial arts: towards memetic algorithms", Caltech C3P 826 (1989), for crossing with a fit of every child.
    """
    rng = np.random.default_rng(_SEED)
    if near is None:
        starts = [_starts(problem, effort, rng) for _ in range(effort.islands)]
    else:
        whole = np.vstack([near, _evenly(problem)[len(near) :]])[None]
        starts = [np.concatenate([whole, [_child(problem, whole, rng) for _ in range(effort.starts)]])]
    islands = [_evolved(problem, problem.polished(start, steps=_FIRST), effort, rng, on_progress) for start in starts]
    kept = islands[0] if len(islands) == 1 else _evolved(problem, np.concatenate(islands), effort, rng, on_progress)
    best = _best(problem, list(kept[: effort.finalists]), effort)
    bands = _without_opposing(problem, kept[0]) if best is None else best
    bands = _filled(problem, _worth_having(bands), effort)
    bands = _exchanged(problem, bands, effort)
    on_progress()
    merged = _merged(problem, bands, effort)
    return _of_use(problem, _worth_having(_filled(problem, merged, effort) if len(merged) < len(bands) else bands))


def _of_use(problem: FitProblem, bands: Bands) -> Bands:
    """Without those that nothing is lost by: where others play most of what sounds a band moves next to nothing."""
    while len(bands):
        without = np.array([np.delete(bands, k, axis=0) for k in range(len(bands))])
        cost = problem.cost(without)
        if cost.min() > _NO_USE * problem.cost(bands):
            break
        bands = without[int(np.argmin(cost))]
    return bands


def _evolved(
    problem: FitProblem, kept: Bands, effort: Effort, rng: np.random.Generator, on_progress: Callable[[], None]
) -> Bands:
    """The best sets after some generations, best first."""
    kept, cost = _best_of(problem, kept, effort.kept)
    on_progress()
    waited = 0
    for _ in range(effort.generations):
        children = [_child(problem, kept, rng) for _ in range(effort.children)]
        fitted = problem.polished(np.array(children), steps=_SHORT)
        before = cost[0]
        kept, cost = _best_of(problem, np.concatenate([kept, fitted]), effort.kept)
        waited = 0 if cost[0] < effort.better * before else waited + 1
        on_progress()
        if waited >= effort.patience:
            break
    return kept


def settled(problem: FitProblem, bands: Bands) -> Bands:
    """Fitted to the end; where one comes to do next to nothing, the rest is fitted without it."""
    while True:
        fine = problem.polished(bands, steps=100, to=1e-6)
        kept = _worth_having(fine)
        if len(kept) == len(fine):
            return fine
        bands = kept


def _worth_having(bands: Bands) -> Bands:
    """Without those that do next to nothing."""
    return bands[np.abs(bands[:, 1]) >= WORTH_DB]


def _best_of(problem: FitProblem, sets: Bands, count: int) -> tuple[Bands, NDArray]:
    """The best distinct sets and their costs; those without opposing filters first."""
    cost = problem.cost(sets)
    opposing = np.asarray(problem.opposing(sets).any(axis=-1))
    order = np.lexsort((cost, opposing))
    sets, cost, opposing = sets[order], cost[order], opposing[order]
    new = np.concatenate([[True], (np.abs(np.diff(cost)) > _DISTINCT * cost[0]) | (np.diff(opposing.astype(int)) > 0)])
    return sets[new][:count], cost[new][:count]


def _child(problem: FitProblem, kept: Bands, rng: np.random.Generator) -> Bands:
    """A set of as many bands as are allowed, of one or two that are kept."""
    count = problem.limits.bands
    parent = _parent(kept, rng)
    if rng.random() < _CROSSED:
        child = _crossed(problem, parent, _parent(kept, rng), rng)
        child = child[rng.permutation(len(child))[:count]]
    else:
        child = np.delete(parent, rng.permutation(len(parent))[: rng.integers(1, 3)], axis=0)
    while len(child) < count:
        child = np.vstack([child, _random(problem, child, rng)])
    return child


def _parent(kept: Bands, rng: np.random.Generator) -> Bands:
    """Any that is kept: better ones preferred lose sooner what others have."""
    return kept[int(len(kept) * rng.random())]


def _crossed(problem: FitProblem, first: Bands, other: Bands, rng: np.random.Generator) -> Bands:
    """The bands of one set below a frequency, and of the other above it; of each kind of shelf no more than one."""
    at = rng.uniform(*np.log([problem.limits.from_hz, problem.limits.to_hz]))
    both = np.vstack([first[first[:, 0] < at], other[other[:, 0] >= at]])
    again = np.zeros(len(both), dtype=bool)
    for kind in (LOW_SHELF, HIGH_SHELF):
        again[np.flatnonzero(both[:, KIND] == kind)[1:]] = True
    return both[~again]


def _random(problem: FitProblem, bands: Bands, rng: np.random.Generator) -> NDArray:
    """Another band: likeliest where much is missed, of any Q."""
    residual = problem.missed_db(bands)
    shelves = [kind for kind in problem.shelves if not (bands[:, KIND] == kind).any()]
    if shelves and rng.random() < _SHELVED:
        return _shelf(problem, residual, shelves[rng.integers(len(shelves))], rng.uniform(*_SHELF_OCTAVES))
    likely = np.cumsum((_weighed(problem, residual) ** 2 + 1e-9) * problem.inside)
    k = int(np.searchsorted(likely, rng.random() * likely[-1], side="right"))
    return _within(problem, problem.at_hz[k], residual[k], np.exp(rng.uniform(*np.log(_RANDOM_Q))))


def _weighed(problem: FitProblem, residual: NDArray) -> NDArray:
    """What is missed at every point by weight, over a fifth of an octave, shape (points,)."""
    return np.convolve(residual * problem.root, np.ones(5) / 5, "same")


def _starts(problem: FitProblem, effort: Effort, rng: np.random.Generator) -> Bands:
    """Sets of as many bands as are allowed, shape (starts, bands, 4)."""
    evenly = _evenly(problem)
    first, cuts = one_by_one(problem), one_by_one(problem, cuts_first=True)
    moved = [_moved(problem, evenly, rng) for _ in range(effort.starts)]
    plain = [*(np.vstack([filters, evenly[len(filters) :]]) for filters in (first, cuts)), evenly]
    return np.array([*plain, *(shelve for start in plain for shelve in _with_shelves(problem, start)), *moved])


def _with_shelves(problem: FitProblem, bands: Bands) -> list[Bands]:
    """Sets in which shelves stand at the open ends of the range, in place of the bands that are outermost there."""
    tried = []
    order = bands[np.argsort(bands[:, 0], kind="stable")]
    for kinds in ((LOW_SHELF,), (HIGH_SHELF,), (LOW_SHELF, HIGH_SHELF)):
        if not set(kinds) <= set(problem.shelves) or len(bands) < len(kinds):
            continue
        rest = order[LOW_SHELF in kinds : len(order) - (HIGH_SHELF in kinds)]
        new = [shelve for shelve in _new_shelves(problem, NONE, octaves=_SHELF_OCTAVES[-1:]) if shelve[KIND] in kinds]
        if len(new) == len(kinds):
            tried.append(np.vstack([rest, *new]))
    return tried


def _moved(problem: FitProblem, bands: Bands, rng: np.random.Generator) -> Bands:
    """Bands at other places with other widths, and the gain that is desired there."""
    apart = np.log(problem.limits.to_hz / problem.limits.from_hz) / len(bands)
    frequency = np.exp(bands[:, 0] + rng.normal(0, 0.4 * apart, len(bands)))
    q = rng.uniform(_NEW_Q / 2, 2 * _NEW_Q, len(bands))
    return np.array(
        [
            _within(problem, f, np.interp(f, problem.at_hz, problem.desired), q_value)
            for f, q_value in zip(frequency, q, strict=True)
        ]
    )


def one_by_one(problem: FitProblem, *, cuts_first: bool = False) -> Bands:
    """Start: one band after the other at the largest weighted error, as wide as the error there.

    With `cuts_first` hills are cut as long as they are worth a band, and only then dips are filled.
    """
    bands, octave = NONE, np.log2(problem.at_hz)
    residual = problem.missed_db(NONE)
    for _ in range(problem.limits.bands):
        k = int(np.argmax(-residual * problem.root)) if cuts_first else 0
        if not cuts_first or -residual[k] * problem.root[k] < _WORTH_CUTTING_DB:
            k = int(np.argmax(np.abs(residual) * problem.root))
        if abs(residual[k]) * problem.root[k] < WORTH_DB:
            break
        same = (np.sign(residual) == np.sign(residual[k])) & (np.abs(residual) > abs(residual[k]) / 2)
        low = high = k
        while low > 0 and same[low - 1]:
            low -= 1
        while high < residual.size - 1 and same[high + 1]:
            high += 1
        q = q_of_octaves(max(octave[high] - octave[low], 0.08))
        bands = np.vstack([bands, _within(problem, problem.at_hz[k], residual[k], q)])
        residual = problem.missed_db(bands)
    return bands


def _evenly(problem: FitProblem) -> Bands:
    """Start: bands evenly over the range, each with the gain that is desired there."""
    limits = problem.limits
    return np.array(
        [
            _within(problem, frequency, np.interp(frequency, problem.at_hz, problem.desired), _NEW_Q)
            for frequency in np.geomspace(limits.from_hz * 1.05, limits.to_hz * 0.95, limits.bands)
        ]
    )


def _within(problem: FitProblem, frequency_hz: float, gain_db: float, q: float) -> NDArray:
    return problem.within(band_row(frequency_hz, gain_db, q))


def _without_opposing(problem: FitProblem, bands: Bands) -> Bands:
    """Of two bands that fight, the weaker goes."""
    while (opposing := problem.opposing(bands)).any():
        k = int(np.argmax(opposing))
        pair = [int(side[k]) for side in np.triu_indices(len(bands), 1)]
        weaker = min(pair, key=lambda k: abs(bands[k, 1]))
        bands = problem.polished(np.delete(bands, weaker, axis=0))
    return bands


def _filled(problem: FitProblem, bands: Bands, effort: Effort) -> Bands:
    """More bands up to the limit, each where most is left."""
    while len(bands) < problem.limits.bands:
        best = _best(problem, [np.vstack([bands, band]) for band in _new_bands(problem, bands)], effort)
        if best is None or problem.cost(best) >= effort.better * problem.cost(bands):
            break
        bands = best
    return bands


def _best(problem: FitProblem, sets: Sequence[Bands], effort: Effort) -> Bands | None:
    """The best of several sets of equally many bands after their fit, of those where none oppose; None for none."""
    if not sets:
        return None
    tried = np.array(sets)
    if len(tried) > effort.finalists:
        tried, _ = _best_of(problem, problem.polished(tried, steps=_SHORT), effort.finalists)
    tried = problem.polished(tried)
    tried = tried[~problem.opposing(tried).any(axis=-1)]
    return tried[int(np.argmin(problem.cost(tried)))] if len(tried) else None


def _new_bands(problem: FitProblem, bands: Bands) -> list[NDArray]:
    """Single bands at the largest errors."""
    residual = problem.missed_db(bands)
    weighed = _weighed(problem, residual)
    found: list[NDArray] = []
    for k in np.argsort(-np.abs(weighed)):
        new = _within(problem, problem.at_hz[k], residual[k], _NEW_Q)
        if problem.inside[k] and not any(abs(gains[0] - new[0]) / np.log(2) < _NEW_APART for gains in found):
            found.append(new)
        if len(found) == _NEW_PLACES:
            break
    return [*found, *_new_shelves(problem, bands)]


def _new_shelves(problem: FitProblem, bands: Bands, octaves: Sequence[float] = _SHELF_OCTAVES) -> list[NDArray]:
    """Shelves where the range is open and none stands yet."""
    residual = problem.missed_db(bands)
    found = [
        _shelf(problem, residual, kind, inside)
        for kind in problem.shelves
        if not (bands[:, KIND] == kind).any()
        for inside in octaves
    ]
    return [gains for gains in found if abs(gains[1]) >= WORTH_DB]


def _shelf(problem: FitProblem, residual: NDArray, kind: float, octaves: float) -> NDArray:
    """A shelf that turns so far inside the end of the range, with the gain that is missed beyond its corner."""
    limits = problem.limits
    corner = limits.from_hz * 2**octaves if kind == LOW_SHELF else limits.to_hz / 2**octaves
    beyond = problem.inside & (problem.at_hz < corner if kind == LOW_SHELF else problem.at_hz > corner)
    return problem.within(band_row(corner, float(residual[beyond].mean()), _SHELF_Q, kind))


def _merged(problem: FitProblem, bands: Bands, effort: Effort) -> Bands:
    """Without one of two bands of the same sign that stand at almost the same place, where the rest does as well."""
    while True:
        close = np.flatnonzero(
            (np.diff(bands[:, 0]) < _SAME_OCTAVES * np.log(2))
            & (bands[:-1, 1] * bands[1:, 1] > 0)
            & (bands[:-1, KIND] == bands[1:, KIND])
        )
        best = _best(problem, [np.delete(bands, k, axis=0) for k in (*close, *(close + 1))], effort)
        if best is None or problem.cost(best) * _AS_WELL >= problem.cost(bands):
            return bands
        bands = best


def _exchanged(problem: FitProblem, bands: Bands, effort: Effort) -> Bands:
    """Each band is taken out and the rest fitted, as long as the room it leaves is of more use elsewhere."""
    for _ in range(effort.exchanges):
        if len(bands) < 2:
            break
        without = problem.polished(np.array([np.delete(bands, k, axis=0) for k in range(len(bands))]), steps=_SHORT)
        tried = [np.vstack([rest, new]) for rest in without for new in _new_bands(problem, rest)]
        best = _best(problem, tried, effort)
        if best is None or problem.cost(best) >= effort.better * problem.cost(bands):
            break
        bands = best
    return bands
