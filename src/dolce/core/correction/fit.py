"""Parametric bands, all fitted together, none against its neighbour."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.at_hand import AtHand
from dolce.core.correction.band_rows import (
    HIGH_SHELF,
    KIND,
    LOW_SHELF,
    NONE,
    PEAKING,
    Bands,
    band_row,
    levels_and_slopes,
    rows_of,
)
from dolce.core.correction.fit_problem import WORTH_DB, FitProblem, kept_apart_octaves
from dolce.core.correction.limits import Limits
from dolce.core.correction.means import FixedBands
from dolce.core.correction.plan import CorrectionPlan
from dolce.core.filters import BandFilter, q_of_octaves

_OPPOSED = (1.0, 4.0)            # weights of opposition, one after the other
_APART = 1.03                    # rounding takes a little
_NEW_Q, _NEW_PLACES = 4.0, 3     # where another band is tried
_NEW_APART = 1 / 3               # octaves between these
_SHELF_Q, _SHELF_OCTAVES = 0.7, (0.7, 1.6)   # of a shelf that is tried: how far inside the end of the range it turns
_HALF, _MOST = 0.6, 0.9           # shares of what all bands give that are worth telling
_LEAST = 3                       # bands that are missed least, of which one goes
_SHORT, _SEED = 8, 14            # steps of fits that only compare; of the chance that moves starts
_AS_WELL = 0.98                  # of the cost: two that gain no more than that over one are one
_SAME_OCTAVES = 0.15             # bands of one sign nearer than that may do as one


@dataclass(frozen=True, slots=True, kw_only=True)
class Effort:
    """How long the best bands are looked for.

    Attributes
    ----------
    starts : besides the two that follow from the wish
    promising, exchanged : of these, so many are fitted to the end, and of so many each band is tried elsewhere
    exchanges : rounds of that
    finalists : of many sets to compare, so many are fitted to the end
    better : part of the cost; what gains less is not worth a change
    """

    starts: int
    promising: int
    exchanged: int
    exchanges: int
    finalists: int
    better: float


QUICK = Effort(starts=10, promising=3, exchanged=1, exchanges=3, finalists=6, better=0.995)
# Twice the time; on 25 simulated loudspeakers it closed 0.01 more of the gap to what is possible (0.845 against 0.835
# in the mean, 0.849 against 0.848 in the median).
THOROUGH = Effort(starts=16, promising=5, exchanged=2, exchanges=6, finalists=12, better=0.998)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Fit:
    """Bands, and what fewer of them would do.

    Attributes
    ----------
    filters : tuple of BandFilter
        By rising frequency.
    fewer : tuple of (int, float)
        How many bands of the same wish give which share of what all give.
    """

    filters: tuple[BandFilter, ...]
    fewer: tuple[tuple[int, float], ...] = ()


_FITS: AtHand[tuple, Fit] = AtHand(128)


def fit_bands(plan: CorrectionPlan, *, limits: Limits, sample_rate_hz: float, effort: Effort = QUICK,
              told: Callable[[], None] | None = None) -> Fit:
    """Peaking bands that come closest to a plan within its limits. `told` is called between the steps, and may raise.

    From many starts (bands one by one at the largest error; bands evenly over the range, and such moved by chance, the
    same chance every time) all frequencies, gains and Qs are fitted together by least squares with bounds. Limits enter
    as steep penalties (sum of all bands, also relative to its mean over 200-2000 Hz; how far that mean sinks; quiet
    outside the range), and so do neighbours of opposite sign within a third of an octave: they would fight each other,
    spend headroom and hold at one place only. Where some are left, the weaker goes. Bands that are free then are put
    where most is left, and each is tried elsewhere; two that do as well as one become one. What is still broken after
    rounding is repaired by shrinking gains, so the limits hold exactly.

    Rounding as in `BandFilter.rounded`. A fit is the same every time, so the last ones are kept: where one channel of
    many has changed, only its own is looked for again.

    References
    ----------
    G. Ramos and J. J. Lopez, "Filter design method for loudspeaker equalization based on IIR parametric filters",
    JAES 54, 1162-1178 (2006), for the start; the joint fit and the search follow our trials on simulated rooms.
    """
    wished = tuple(one.tobytes() for one in (plan.frequency_hz, plan.wished_db, plan.weight))
    asked = (wished, limits, sample_rate_hz, effort)
    return _FITS.get_or(asked, lambda: _fitted(FitProblem(plan, limits, sample_rate_hz), effort, told or _nothing))


def _fitted(problem: FitProblem, effort: Effort, told: Callable[[], None]) -> Fit:
    settled = problem.polished(_starts(problem, effort), opposed=_OPPOSED[0])
    told()
    settled = problem.polished(settled, opposed=_OPPOSED[-1])
    told()
    promising = settled[np.argsort(_judged(problem, settled), kind="stable")[:effort.promising]]
    found = [_filled(problem, _without_fights(problem, one), effort) for one in promising]
    found = sorted(found, key=problem.cost)[:effort.exchanged]
    told()
    bands = min((_exchanged(problem, one, effort) for one in found), key=problem.cost)
    told()
    merged = _merged(problem, bands, effort)
    if len(merged) < len(bands):
        bands = _filled(problem, merged, effort)
    bands = _worth_having(bands)
    fine = _settled(problem, bands)
    filters = problem.repaired(problem.rounded(bands if _fights(fine) else fine))
    return Fit(filters=tuple(sorted(filters, key=lambda f: f.frequency_hz)), fewer=_of_fewer(problem, bands))


def _worth_having(bands: Bands) -> Bands:
    """Without those that do next to nothing."""
    return bands[np.abs(bands[:, 1]) >= WORTH_DB]


def _settled(problem: FitProblem, bands: Bands) -> Bands:
    """Fitted to the end; where one comes to do next to nothing, the rest is fitted without it."""
    while True:
        fine = problem.polished(bands, opposed=_OPPOSED[-1], steps=100, to=1e-6)
        kept = _worth_having(fine)
        if len(kept) == len(fine):
            return fine
        bands = kept


def worth_telling(fewer: Sequence[tuple[int, float]]) -> tuple[tuple[int, float], ...]:
    """Of what fewer bands do: the fewest that give most of it, before them the fewest that give more than half."""
    most = next(((count, share) for count, share in fewer if share >= _MOST), None)
    half = next(((count, share) for count, share in fewer if share >= _HALF), None)
    return tuple(dict.fromkeys(one for one in (half, most) if one is not None)) if most is not None else ()


def _nothing() -> None:
    """Told to nobody."""


def _of_fewer(problem: FitProblem, bands: Bands) -> tuple[tuple[int, float], ...]:
    """How many bands give which share of what all give: the one that does least goes, and the rest are fitted."""
    nothing = float(problem.cost(NONE))
    whole = nothing - float(problem.cost(bands))
    found = []
    while len(bands) > 1 and whole > 0:
        without = np.array([np.delete(bands, k, axis=0) for k in range(len(bands))])
        least = np.argsort(_judged(problem, without), kind="stable")[:_LEAST]       # the others are missed much more
        bands = min(problem.polished(without[least], opposed=_OPPOSED[-1], steps=_SHORT), key=problem.cost)
        found.append((len(bands), max(0.0, (nothing - float(problem.cost(bands))) / whole)))
    return tuple(reversed(found))


def fit_left_out(plan: CorrectionPlan, filters: Sequence[BandFilter], *, limits: Limits,
                 sample_rate_hz: float, at_hz: NDArray) -> NDArray[np.float64]:
    """What would change in the bands had each spot been left out in turn, shape (spots, points) at `at_hz`.

    All frequencies, gains and Qs are fitted anew to each wish and to that of all spots, from where they are.
    """
    fitted = rows_of(filters)
    if not len(fitted) or not len(plan.without_each_db):
        return np.zeros((len(plan.without_each_db), at_hz.size))
    problem = FitProblem(plan, limits, sample_rate_hz)
    wishes = np.array([problem.on_grid(plan.frequency_hz, one) for one in (*plan.without_each_db, plan.wished_db)])
    start = np.repeat(fitted[None], len(wishes), axis=0)
    made = problem.polished(start, opposed=_OPPOSED[-1], wish=wishes)
    total = levels_and_slopes(made, at_hz=at_hz, sample_rate_hz=sample_rate_hz)[0].sum(axis=1)
    return total[:-1] - total[-1]


def fit_with_fixed(plan: CorrectionPlan, fixed: FixedBands, *, limits: Limits, sample_rate_hz: float,
                   free: Sequence[BandFilter] = ()) -> tuple[tuple[BandFilter, ...], tuple[BandFilter, ...]]:
    """Gains of a graphic equaliser with the leak of its neighbours, and free bands with it, all solved as one.

    Returns
    -------
    (fixed, free) : tuples of BandFilter
        Gains of the fixed ones in their steps; all of them, also those at 0 dB.

    References
    ----------
    V. Valimaki and J. Liski, "Accurate cascade graphic equalizer", IEEE Signal Processing Letters 24, 176-180 (2017):
    gains are solved from what every band does at every point, instead of set to the wish at its own centre.
    """
    bounds = replace(limits, max_boost_db=min(limits.max_boost_db, fixed.highest_db),
                     max_cut_db=min(limits.max_cut_db, -fixed.lowest_db))
    problem = FitProblem(plan, bounds, sample_rate_hz)
    usable = [f for f in fixed.centres_hz if f < 0.48 * sample_rate_hz]
    inside = np.array([limits.from_hz <= f <= limits.to_hz for f in usable])
    rows = rows_of([BandFilter(frequency_hz=f, gain_db=0.0, q=fixed.q) for f in usable])
    moving = rows_of(free)
    start = np.vstack([moving, rows[inside]])
    made = problem.polished(start, opposed=0.0, free=len(moving), steps=100, to=1e-6) if len(start) else start
    made = _on_steps(problem, made, len(moving), fixed.step_db)
    gains = np.zeros(len(usable))
    gains[inside] = made[len(moving):, 1]
    graphic = tuple(BandFilter(frequency_hz=f, gain_db=round(float(g), 3), q=fixed.q)
                    for f, g in zip(usable, gains, strict=True))
    return graphic, tuple(problem.rounded(made[:len(moving)]))


def _on_steps(problem: FitProblem, bands: Bands, free: int, step_db: float) -> Bands:
    """Gains of the fixed bands on their steps: rounded, then moved by one as long as that misses less."""
    bands = bands.copy()
    count = len(bands) - free
    bands[free:, 1] = np.clip(np.round(bands[free:, 1] / step_db) * step_db,
                              np.ceil(problem.low_bounds[1] / step_db - 1e-9) * step_db,
                              np.floor(problem.high_bounds[1] / step_db + 1e-9) * step_db)
    for _ in range(4 * count):
        tried = np.repeat(bands[None], 2 * count, axis=0)
        own = np.arange(count)
        tried[own, free + own, 1] += step_db
        tried[count + own, free + own, 1] -= step_db
        cost = problem.cost(tried)
        cost[(tried[:, free:, 1] > problem.high_bounds[1] + 1e-9).any(axis=1)
             | (tried[:, free:, 1] < problem.low_bounds[1] - 1e-9).any(axis=1)] = np.inf
        best = int(np.argmin(cost)) if count else 0
        if not count or cost[best] >= problem.cost(bands):
            break
        bands = tried[best]
    return bands


def _judged(problem: FitProblem, sets: Bands) -> NDArray:
    """Cost of sets of bands with the weight of their opposition."""
    return np.sum(problem.residuals(sets, opposed=_OPPOSED[-1]) ** 2, axis=-1)


def _starts(problem: FitProblem, effort: Effort) -> Bands:
    """Sets of as many bands as are allowed, shape (starts, bands, 4)."""
    evenly = _evenly(problem)
    first = _one_by_one(problem)
    chance = np.random.default_rng(_SEED)
    moved = [_moved(problem, evenly, chance) for _ in range(effort.starts)]
    plain = [np.vstack([first, evenly[len(first):]]), evenly]
    return np.array([*plain, *(one for start in plain for one in _with_shelves(problem, start)), *moved])


def _with_shelves(problem: FitProblem, bands: Bands) -> list[Bands]:
    """Sets in which shelves stand at the open ends of the range, in place of the bands that are outermost there."""
    tried = []
    order = bands[np.argsort(bands[:, 0], kind="stable")]
    for kinds in ((LOW_SHELF,), (HIGH_SHELF,), (LOW_SHELF, HIGH_SHELF)):
        if not set(kinds) <= set(problem.shelves) or len(bands) < len(kinds):
            continue
        rest = order[LOW_SHELF in kinds:len(order) - (HIGH_SHELF in kinds)]
        new = [one for one in _new_shelves(problem, NONE, octaves=_SHELF_OCTAVES[-1:]) if one[KIND] in kinds]
        if len(new) == len(kinds):
            tried.append(np.vstack([rest, *new]))
    return tried


def _moved(problem: FitProblem, bands: Bands, chance: np.random.Generator) -> Bands:
    """Bands at other places with other widths, and the gain that is wished there."""
    apart = np.log(problem.limits.to_hz / problem.limits.from_hz) / len(bands)
    frequency = np.exp(bands[:, 0] + chance.normal(0, 0.4 * apart, len(bands)))
    q = chance.uniform(_NEW_Q / 2, 2 * _NEW_Q, len(bands))
    return np.array([_within(problem, f, np.interp(f, problem.at_hz, problem.wish), one)
                     for f, one in zip(frequency, q, strict=True)])


def opposing(bands: Bands, *, more: float = 1.0) -> list[tuple[int, int]]:
    """Peaking bands that oppose their next neighbour so near by that both overlap, as pairs of their places."""
    own = np.flatnonzero(bands[:, KIND] == PEAKING)
    own = own[np.argsort(bands[own, 0], kind="stable")]
    one, other = bands[own[:-1]], bands[own[1:]]
    close = (other[:, 0] - one[:, 0]) / np.log(2) < more * kept_apart_octaves(one[:, 2], other[:, 2])
    found = np.flatnonzero((one[:, 1] * other[:, 1] < 0) & close)
    return [(int(own[k]), int(own[k + 1])) for k in found]


def _one_by_one(problem: FitProblem) -> Bands:
    """Start: one band after the other at the largest weighted error, as wide as the error there."""
    bands, octave = NONE, np.log2(problem.at_hz)
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
    return problem.within(band_row(frequency_hz, gain_db, q))


def _without_fights(problem: FitProblem, bands: Bands) -> Bands:
    """Of neighbours that still fight, the weaker goes; then those that do next to nothing."""
    while fights := _fights(bands):
        pair = min(fights, key=lambda pair: min(abs(bands[k, 1]) for k in pair))
        weaker = min(pair, key=lambda k: abs(bands[k, 1]))
        bands = problem.polished(np.delete(bands, weaker, axis=0), opposed=_OPPOSED[-1])
    return _worth_having(bands)


def _fights(bands: Bands) -> list[tuple[int, int]]:
    return opposing(bands, more=_APART)


def _filled(problem: FitProblem, bands: Bands, effort: Effort) -> Bands:
    """More bands up to the limit, each where most is left and no neighbour opposes it."""
    while len(bands) < problem.limits.bands:
        new = _new_bands(problem, bands)
        best = _best(problem, [np.vstack([bands, one]) for one in new], effort)
        if best is None or problem.cost(best) >= effort.better * problem.cost(bands):
            break
        bands = best
    return bands


def _best(problem: FitProblem, sets: list[Bands], effort: Effort) -> Bands | None:
    """The best of several sets of equally many bands after their fit, of those where none fights; None for none."""
    if not sets:
        return None
    tried = np.array(sets)
    if len(tried) > effort.finalists:
        tried = problem.polished(tried, opposed=_OPPOSED[-1], steps=_SHORT)
        tried = tried[np.argsort(_judged(problem, tried), kind="stable")[:effort.finalists]]
    tried = problem.polished(tried, opposed=_OPPOSED[-1])
    peaceful = [one for one in tried if not _fights(one)]
    return min(peaceful, key=problem.cost, default=None)


def _new_bands(problem: FitProblem, bands: Bands) -> list[NDArray]:
    """Single bands at the largest errors that no band of the other sign is near."""
    left = np.convolve((problem.wish - problem.total(bands)) * problem.root, np.ones(5) / 5, "same")
    found: list[NDArray] = []
    for k in np.argsort(-np.abs(left)):
        new = _within(problem, problem.at_hz[k], left[k], _NEW_Q)
        others = bands[(bands[:, 1] * left[k] < 0) & (bands[:, KIND] == PEAKING)]
        near = [*(_apart(new, others) < _APART * kept_apart_octaves(others[:, 2], new[2])),
                *(_apart(new, one[None]) < _NEW_APART for one in found)]
        if problem.inside[k] and not any(near):
            found.append(new)
        if len(found) == _NEW_PLACES:
            break
    return [*found, *_new_shelves(problem, bands)]


def _new_shelves(problem: FitProblem, bands: Bands, octaves: Sequence[float] = _SHELF_OCTAVES) -> list[NDArray]:
    """Shelves where the range is open and none stands yet, each with the gain that is missed beyond its corner."""
    missed = problem.wish - problem.total(bands)
    found = []
    for kind in problem.shelves:
        if (bands[:, KIND] == kind).any():
            continue
        for inside in octaves:
            corner = problem.limits.from_hz * 2**inside if kind == LOW_SHELF else problem.limits.to_hz / 2**inside
            beyond = problem.inside & (problem.at_hz < corner if kind == LOW_SHELF else problem.at_hz > corner)
            found.append(problem.within(band_row(corner, float(missed[beyond].mean()), _SHELF_Q, kind)))
    return [one for one in found if abs(one[1]) >= WORTH_DB]


def _apart(band: NDArray, others: Bands) -> NDArray:
    """Octaves between a band and others."""
    return np.abs(others[:, 0] - band[0]) / np.log(2)


def _merged(problem: FitProblem, bands: Bands, effort: Effort) -> Bands:
    """Without one of two bands of the same sign that stand at almost the same place, where the rest does as well."""
    while True:
        close = np.flatnonzero((np.diff(bands[:, 0]) < _SAME_OCTAVES * np.log(2)) & (bands[:-1, 1] * bands[1:, 1] > 0)
                               & (bands[:-1, KIND] == bands[1:, KIND]))
        best = _best(problem, [np.delete(bands, k, axis=0) for k in (*close, *(close + 1))], effort)
        if best is None or problem.cost(best) * _AS_WELL >= problem.cost(bands):
            return bands
        bands = best


def _exchanged(problem: FitProblem, bands: Bands, effort: Effort) -> Bands:
    """Each band is taken out and the rest fitted, as long as the room it leaves is of more use elsewhere."""
    for _ in range(effort.exchanges):
        if len(bands) < 2:
            break
        without = problem.polished(np.array([np.delete(bands, k, axis=0) for k in range(len(bands))]),
                                   opposed=_OPPOSED[-1], steps=_SHORT)
        best = _best(problem, [np.vstack([rest, new]) for rest in without for new in _new_bands(problem, rest)],
                     effort)
        if best is None or problem.cost(best) >= effort.better * problem.cost(bands):
            break
        bands = best
    return bands
