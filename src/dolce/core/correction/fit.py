"""Parametric bands, all fitted together."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.cache import Cache
from dolce.core.correction.band_rows import NONE, Bands, levels_and_slopes, rows_of
from dolce.core.correction.filter_type import FixedBands
from dolce.core.correction.fit_problem import FitProblem
from dolce.core.correction.fit_search import Effort, best_bands, one_by_one, settled
from dolce.core.correction.limits import Limits
from dolce.core.correction.plan import CorrectionPlan
from dolce.core.filters import BandFilter

_AS_GOOD = 0.99  # of the deviation that the best set takes away: the smallest set that does so is used
_LOUDER_DB = 0.5
_STILL_LOUD_DB = 0.7  # where filters leave so much too loud, they are looked for once more, ...
_ONCE_MORE = 3  # ... and so often at most
_STILL_LOUD = 2.0  # by how much more each dB of it counts then
_AGAIN = 5  # generations of that: more find nothing
_LEAST, _SHORT = 3, 8  # bands that are missed least, of which one goes; steps of fits that only compare

QUICK = Effort(
    islands=1, starts=10, kept=16, children=16, generations=12, patience=4, finalists=6, exchanges=1, better=0.995
)
THOROUGH = Effort(
    islands=3, starts=16, kept=24, children=24, generations=40, patience=6, finalists=12, exchanges=3, better=0.998
)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Fit:
    """Bands, and what fewer of them would do.

    Attributes
    ----------
    filters : tuple of BandFilter
        By rising frequency.
    fewer : tuple of (int, float)
        How many bands give which share of the deviation that the most of them take away, by rising number.
    """

    filters: tuple[BandFilter, ...]
    fewer: tuple[tuple[int, float], ...] = ()


Compute = Callable[[CorrectionPlan, Limits, float, Effort, Callable[[], None]], Fit]
_FITS: Cache[tuple, Fit] = Cache(128)


def fit_bands(
    plan: CorrectionPlan,
    *,
    limits: Limits,
    sample_rate_hz: float,
    effort: Effort = QUICK,
    on_progress: Callable[[], None] | None = None,
    compute: "Compute | None" = None,
) -> Fit:
    """Peaking bands that come closest to a plan within its limits.

    `on_progress` is called between the steps, and may raise.

    Frequencies, gains and Qs of many sets of bands are fitted together by least squares with bounds, and the best sets
    are looked for (`best_bands`). Limits enter as steep penalties (sum of all bands, also relative to its mean over
    200-2000 Hz; how far that mean sinks; quiet outside the range); one band alone may add more than the limit where
    others take away beside it. What is still broken after rounding is repaired by shrinking gains, so the limits hold
    exactly. Bands that mostly cancel each other (`FitProblem.opposing`) are not used.

    Rounding as in `BandFilter.rounded`. A fit is the same every time, so the last ones are kept: where one channel of
    many has changed, only its own is looked for again. `compute` does it in the place of `fitted`, elsewhere perhaps.
    """
    desired = tuple(
        array.tobytes()
        for array in (
            plan.frequency_hz,
            plan.desired_db,
            plan.weight,
            plan.share,
            plan.most_up_db,
            plan.most_down_db,
            plan.loud_db,
        )
    )
    asked = (desired, limits, sample_rate_hz, effort)
    return _FITS.get_or(
        asked, lambda: (compute or fitted)(plan, limits, sample_rate_hz, effort, on_progress or _nothing)
    )


def fitted(
    plan: CorrectionPlan, limits: Limits, sample_rate_hz: float, effort: Effort, on_progress: Callable[[], None]
) -> Fit:
    """The same, computed here and now, whether it was asked for before or not."""
    problem = FitProblem(plan, limits, sample_rate_hz)
    bands = best_bands(problem, effort, on_progress)
    loud, tried = problem.loud_left_db(bands), [(problem, bands)]
    for _ in range(_ONCE_MORE):
        if loud.max() <= _STILL_LOUD_DB:
            break
        # Narrow hills are missed little as squares over octaves: what is left of them counts for more.
        remaining_db = np.interp(np.log2(plan.frequency_hz), np.log2(problem.at_hz), np.maximum(loud, 0))
        plan = replace(plan, weight=plan.weight * (1 + _STILL_LOUD * remaining_db))
        problem = FitProblem(plan, limits, sample_rate_hz)
        bands = best_bands(problem, replace(effort, generations=_AGAIN), on_progress, near=bands)
        loud = problem.loud_left_db(bands)
        tried.append((problem, bands))
    problem, bands = min(tried, key=lambda item: max(item[0].loud_left_db(item[1]).max(), _STILL_LOUD_DB))
    fine = settled(problem, bands)
    sets = _of_fewer(problem, bands if problem.opposing(fine).any() else fine)
    missed = [np.sqrt(problem.cost(chosen)) for chosen in (NONE, *sets)]
    taken = missed[0] - min(missed)
    fewer = tuple(
        (len(chosen), float(max(0.0, (missed[0] - residual) / taken)) if taken > 0 else 0.0)
        for chosen, residual in zip(sets, missed[1:], strict=True)
    )
    # No hill may be left that the best set cuts, however little it counts in the whole.
    loudest = problem.loud_left_db(sets[-1]).max() + _LOUDER_DB
    chosen = next(
        chosen
        for chosen, (_, share) in zip(sets, fewer, strict=True)
        if (share >= _AS_GOOD and problem.loud_left_db(chosen).max() <= loudest) or chosen is sets[-1]
    )
    filters = problem.repaired(problem.rounded(chosen))
    return Fit(filters=tuple(sorted(filters, key=lambda f: f.frequency_hz)), fewer=fewer)


def _nothing() -> None:
    """Told to nobody."""


def _of_fewer(problem: FitProblem, bands: Bands) -> list[Bands]:
    """The best sets of fewer and fewer bands, by rising number, none of which opposes another; each does more than
    all smaller ones.

    The one that does least goes, and the rest are fitted; or as many that are placed one by one, where they do more.
    """
    placed = one_by_one(problem)
    found = [bands]
    while len(bands) > 1:
        without = np.array([np.delete(bands, k, axis=0) for k in range(len(bands))])
        least = np.argsort(problem.cost(without), kind="stable")[:_LEAST]  # the others are missed much more
        tried = without[least]
        if len(placed) >= len(bands) - 1:
            tried = np.concatenate([tried, placed[None, : len(bands) - 1]])
        tried = problem.polished(tried, steps=_SHORT)
        tried = tried[np.lexsort((problem.cost(tried), problem.opposing(tried).any(axis=-1)))]
        bands = tried[0]
        if not problem.opposing(bands).any():
            found.append(bands)
    rising = found[::-1]
    best = np.minimum.accumulate([problem.cost(gains) for gains in rising])
    return [gains for k, gains in enumerate(rising) if not k or problem.cost(gains) < best[k - 1]]


def fit_left_out(
    plan: CorrectionPlan, filters: Sequence[BandFilter], *, limits: Limits, sample_rate_hz: float, at_hz: NDArray
) -> NDArray[np.float64]:
    """What would change in the bands had each spot been left out in turn, shape (spots, points) at `at_hz`.

    All frequencies, gains and Qs are fitted anew to the desired correction of each and of all spots, from where they
    are.
    """
    fitted = rows_of(filters)
    if not len(fitted) or not len(plan.without_each_db):
        return np.zeros((len(plan.without_each_db), at_hz.size))
    problem = FitProblem(plan, limits, sample_rate_hz)
    options_by_job = np.array(
        [problem.on_grid(plan.frequency_hz, desired_db) for desired_db in (*plan.without_each_db, plan.desired_db)]
    )
    start = np.repeat(fitted[None], len(options_by_job), axis=0)
    made = problem.polished(start, desired=options_by_job)
    total = levels_and_slopes(made, at_hz=at_hz, sample_rate_hz=sample_rate_hz)[0].sum(axis=1)
    return total[:-1] - total[-1]


def fit_with_fixed(
    plan: CorrectionPlan,
    fixed: FixedBands,
    *,
    limits: Limits,
    sample_rate_hz: float,
    free: Sequence[BandFilter] = (),
    held_hz: Collection[float] = (),
) -> tuple[tuple[BandFilter, ...], tuple[BandFilter, ...]]:
    """Gains of a graphic equaliser with the leak of its neighbours, and free bands with it, all solved as one.

    Parameters
    ----------
    held_hz : collection of float
        Centres that are held by hand, what they do being taken out of the plan already: they are not solved.

    Returns
    -------
    (fixed, free) : tuples of BandFilter
        Gains of the fixed ones in their steps; all of them, also those at 0 dB.

    References
    ----------
    V. Valimaki and J. Liski, "Accurate cascade graphic equalizer", IEEE Signal Processing Letters 24, 176-180 (2017):
    gains are solved from what every band does at every point, instead of set to the desired correction at its own
    centre.
    """
    bounds = replace(
        limits,
        max_boost_db=min(limits.max_boost_db, fixed.highest_db),
        max_cut_db=min(limits.max_cut_db, -fixed.lowest_db),
        highest_gain_db=min(limits.highest_gain_db, fixed.highest_db),
    )
    problem = FitProblem(plan, bounds, sample_rate_hz)
    usable = [f for f in fixed.centres_hz if f < 0.48 * sample_rate_hz and f not in held_hz]
    inside = np.array([limits.from_hz <= f <= limits.to_hz for f in usable])
    rows = rows_of([BandFilter(frequency_hz=f, gain_db=0.0, q=fixed.q) for f in usable])
    moving = rows_of(free)
    start = np.vstack([moving, rows[inside]])
    made = problem.polished(start, free=len(moving), steps=100, to=1e-6) if len(start) else start
    made = _on_steps(problem, made, len(moving), fixed.step_db)
    gains = np.zeros(len(usable))
    gains[inside] = made[len(moving) :, 1]
    graphic = tuple(
        BandFilter(frequency_hz=f, gain_db=round(float(g), 3), q=fixed.q) for f, g in zip(usable, gains, strict=True)
    )
    return graphic, tuple(problem.rounded(made[: len(moving)]))


def _on_steps(problem: FitProblem, bands: Bands, free: int, step_db: float) -> Bands:
    """Gains of the fixed bands on their steps: rounded, then moved by one as long as that misses less."""
    bands = bands.copy()
    count = len(bands) - free
    bands[free:, 1] = np.clip(
        np.round(bands[free:, 1] / step_db) * step_db,
        np.ceil(problem.low_bounds[1] / step_db - 1e-9) * step_db,
        np.floor(problem.high_bounds[1] / step_db + 1e-9) * step_db,
    )
    for _ in range(4 * count):
        tried = np.repeat(bands[None], 2 * count, axis=0)
        index = np.arange(count)
        tried[index, free + index, 1] += step_db
        tried[count + index, free + index, 1] -= step_db
        cost = problem.cost(tried)
        cost[
            (tried[:, free:, 1] > problem.high_bounds[1] + 1e-9).any(axis=1)
            | (tried[:, free:, 1] < problem.low_bounds[1] - 1e-9).any(axis=1)
        ] = np.inf
        best = int(np.argmin(cost)) if count else 0
        if not count or cost[best] >= problem.cost(bands):
            break
        bands = tried[best]
    return bands
