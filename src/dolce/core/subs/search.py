"""The settings of several subs that serve all seats: one search over delay, polarity, gain and all-passes."""

import itertools
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.subs.field import BassField, SubSetting, neutral

# What counts how much, in dB of each: seats alike, spots alike, what one equaliser would leave, more loss than allowed.
# Tried on three simulated rooms at spots that were not given; equally good weights scatter by about 2 % there.
_SEATS, _SPOTS, _LEFT, _TOO_SOFT = 1.5, 0.5, 2.0, 6.0
_ALL_PASS_HZ, _ALL_PASS_Q = (20.0, 120.0), (0.3, 3.0)
_RUNS, _AT_ONCE, _GENERATIONS, _PEOPLE = 4, 2, 80, 12
_WALKED = 24                       # of each run, the best
_FIRST_STEP_S, _FIRST_STEP, _STEPS, _SMALLEST = 0.001, 1.0, 40, 0.02
_STEP_S, _STEP_DB = 1e-5, 0.1
# What else was met: of each step of output the most even, as far as so much below the limit, where it is worth it.
_TRADE_STEP_DB, _TRADE_BEYOND_DB, _WORTH_DB = 0.5, 3.0, 0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class SearchLimits:
    """What the calibrator allows.

    Attributes
    ----------
    max_loss_db : float
        Of output against the subs' incoherent sum, over the band and the spots.
    max_delay_s : float
        Between the earliest and the latest sub.
    max_cut_db : float
        Of one sub against the loudest; 0 keeps gains as they were matched.
    all_passes : int
        Second-order sections for each sub.
    """

    max_loss_db: float = limited(0, 12, where="largest loss of output", unit="dB", default=3.0)
    max_delay_s: float = limited(0, 0.1, where="largest delay", unit="s", default=0.02)
    max_cut_db: float = limited(0, 20, where="largest cut of a sub", unit="dB", default=10.0)
    all_passes: int = limited(0, 4, where="all-passes", whole=True, default=0)

    def __post_init__(self) -> None:
        ranges(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """Settings, and what they do at the spots that they were found at.

    Attributes
    ----------
    settings : tuple of SubSetting
        Delays from 0, the loudest gain 0 dB.
    """

    settings: tuple[SubSetting, ...]
    spread_db: float
    output_db: float
    left_db: float
    cost: float


def found_at(field: BassField, settings: tuple[SubSetting, ...], limits: SearchLimits) -> Found:
    """What settings do at a field's spots."""
    levels = field.levels_db(field.weights_of(settings))
    return Found(settings=settings, spread_db=float(field.spread_db(levels)), output_db=float(field.output_db(levels)),
                 left_db=float(field.unevenness_db(levels)), cost=float(_cost(field, levels, limits)))


def search(field: BassField, limits: SearchLimits, *, seed: int = 0, told: Callable[[float], None] = lambda _: None,
           stopped: Callable[[], bool] = lambda: False) -> Found:
    """The best settings; the same every time. See `search_with_trade`."""
    return search_with_trade(field, limits, seed=seed, told=told, stopped=stopped)[0]


def search_with_trade(field: BassField, limits: SearchLimits, *, seed: int = 0,
                      told: Callable[[float], None] = lambda _: None,
                      stopped: Callable[[], bool] = lambda: False) -> tuple[Found, tuple[Found, ...]]:
    """The best settings, and what else was met that is louder and less even, or the other way round.

    `told` hears the part done. Where `stopped` says so, the best until then is returned.

    Notes
    -----
    Differential evolution (R. Storn and K. Price, J. Global Optim. 11, 341-359, 1997) from several populations, a whole
    generation at once, over delays, gains and all-passes with polarities rounded; the best of them are then polished
    by the simplex of Nelder and Mead with their polarities held. Subs as they are take part, so nothing is made worse.
    """
    if field.count < 2:
        alone = found_at(field, neutral(field.count), limits)
        return alone, (alone,)
    space = _Space(field, limits)
    generations, one_at_a_time = itertools.count(1), threading.Lock()

    def run(number: int) -> list[tuple[float, NDArray]]:
        def halt(*_: object) -> bool:
            with one_at_a_time:
                told(min(next(generations) / (_RUNS * _GENERATIONS), 1.0) * 0.9)
                return stopped()

        found = scipy.optimize.differential_evolution(
            lambda x: space.costs(x.T), space.bounds, maxiter=_GENERATIONS, popsize=_PEOPLE, tol=1e-6, polish=False,
            vectorized=True, updating="deferred", callback=halt, rng=np.random.default_rng([seed, number]))
        return sorted(zip(found.population_energies, found.population, strict=True), key=lambda one: one[0])[:_WALKED]

    # Each run has its own numbers, so that it does not matter which of them is done first.
    with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
        best = [one for of_run in pool.map(run, range(_RUNS)) for one in of_run]
        if not stopped():
            rows = np.array([row for _, row in best])
            for costs, walked in pool.map(space.walked_downhill, (rows[k::_AT_ONCE] for k in range(_AT_ONCE))):
                best += zip(costs, walked, strict=True)
    told(1.0)
    settings = space.settings(min(best, key=lambda one: one[0])[1])
    as_they_are = found_at(field, neutral(field.count), limits)
    found = min((found_at(field, settings, limits), as_they_are), key=lambda one: one.cost)
    met = [found_at(field, space.settings(row), limits) for row in space.met()]
    return found, _front([*met, as_they_are], found)


def _front(met: list[Found], chosen: Found) -> tuple[Found, ...]:
    """Those that nothing beats in both output and evenness, the loudest first; the chosen one always among them."""
    louder = [one for one in met if one.output_db > chosen.output_db + _WORTH_DB and _uneven(one) > _uneven(chosen)]
    softer = [one for one in met if one.output_db < chosen.output_db - _WORTH_DB
              and _uneven(one) < _uneven(chosen) - _WORTH_DB]
    front: list[Found] = []
    for one in [*_by_output(louder), chosen, *_by_output(softer)]:
        if one is chosen or not front or _uneven(one) < _uneven(front[-1]) - _WORTH_DB:
            front.append(one)
    return tuple(front)


def _by_output(met: list[Found]) -> list[Found]:
    return sorted(met, key=lambda one: (-one.output_db, _uneven(one)))


def _uneven(found: Found) -> float:
    return found.spread_db + found.left_db


def _cost(field: BassField, levels: NDArray, limits: SearchLimits) -> NDArray:
    return _unevenness(field, levels) + _too_soft(field.output_db(levels), limits)


def _unevenness(field: BassField, levels: NDArray) -> NDArray:
    return (_SEATS * field.spread_db(levels) + _SPOTS * field.spot_spread_db(levels)
            + _LEFT * field.unevenness_db(levels))


def _too_soft(output_db: NDArray, limits: SearchLimits) -> NDArray:
    return _TOO_SOFT * np.maximum(0.0, -limits.max_loss_db - output_db)


class _Space:
    """Settings as rows of numbers: delays and polarities against the first sub, gains, all-passes."""

    def __init__(self, field: BassField, limits: SearchLimits) -> None:
        self._field, self._limits, n = field, limits, field.count
        self._n = n
        reach, cut = limits.max_delay_s, limits.max_cut_db
        self.bounds = [(-reach, reach)] * (n - 1) + [(0.0, 1.0)] * (n - 1) + ([(-cut, 0.0)] * n if cut else [])
        for _ in range(n * limits.all_passes):
            self.bounds += [tuple(np.log2(_ALL_PASS_HZ)), tuple(np.log2(_ALL_PASS_Q))]
        frequency = field.frequency_hz
        self._turn = -2j * np.pi * frequency
        self._met: dict[int, tuple[float, NDArray]] = {}
        self._lock = threading.Lock()

    def met(self) -> list[NDArray]:
        """The most even row of each step of output that the search came by."""
        with self._lock:
            return [row for _, row in self._met.values()]

    def _note(self, rows: NDArray, levels: NDArray) -> NDArray:
        """Cost of rows; of each output the most even one is kept."""
        even, output = _unevenness(self._field, levels), self._field.output_db(levels)
        steps = np.round(output / _TRADE_STEP_DB).astype(int)
        with self._lock:
            for k in np.flatnonzero(output > -self._limits.max_loss_db - _TRADE_BEYOND_DB):
                if even[k] < self._met.get(int(steps[k]), (np.inf, None))[0]:
                    self._met[int(steps[k])] = float(even[k]), rows[k].copy()
        return even + _too_soft(output, self._limits)

    def parts(self, rows: NDArray) -> tuple[NDArray, NDArray, NDArray, NDArray]:
        """Delays, polarities, gains and all-passes of rows, each shape (rows, subs[, sections, 2])."""
        n, count = self._n, rows.shape[0]
        delay = np.concatenate([np.zeros((count, 1)), rows[:, :n - 1]], axis=1)
        delay = np.minimum(delay - delay.min(axis=1, keepdims=True), self._limits.max_delay_s)
        polarity = np.concatenate([np.ones((count, 1)), np.where(rows[:, n - 1:2 * n - 2] > 0.5, -1.0, 1.0)], axis=1)
        at = 2 * n - 2
        gain = np.zeros((count, n))
        if self._limits.max_cut_db:
            gain = rows[:, at:at + n] - rows[:, at:at + n].max(axis=1, keepdims=True)
            at += n
        sections = 2 ** rows[:, at:].reshape(count, n, self._limits.all_passes, 2)
        return delay, polarity, gain, sections

    def costs(self, rows: NDArray) -> NDArray:
        """Of rows of numbers, a few hundred at a time."""
        out = []
        for part in np.array_split(rows, max(1, len(rows) // 64)):
            delay, polarity, gain, sections = self.parts(part)
            weights = (polarity * 10 ** (gain / 20))[..., None] * np.exp(delay[..., None] * self._turn)
            for k in range(self._limits.all_passes):
                s = 1j * self._field.frequency_hz / sections[:, :, k, :1]
                q = sections[:, :, k, 1:]
                weights = weights * (s * s - s / q + 1) / (s * s + s / q + 1)
            out.append(self._note(part, self._field.levels_db(weights, fast=True)))
        return np.concatenate(out)

    def walked_downhill(self, rows: NDArray) -> tuple[NDArray, NDArray]:
        """Rows, each walked downhill by itself in ever smaller steps, with their costs; all of them at once.

        A pattern search (R. Hooke and T. A. Jeeves, J. ACM 8, 212-229, 1961): of all steps along one number, and of
        all turned polarities, each row takes the best; where none helps, its steps are halved.
        """
        low, high = np.array(self.bounds).T
        turns = np.arange(self._n - 1, 2 * self._n - 2)
        free = np.setdiff1d(np.arange(len(low)), turns)
        span = np.where(free < self._n - 1, _FIRST_STEP_S, _FIRST_STEP)
        rows, costs, size = rows.copy(), self.costs(rows), np.ones(len(rows))
        for _ in range(_STEPS):
            go_on = np.flatnonzero(size > _SMALLEST)
            if not go_on.size:
                break
            near = np.repeat(rows[go_on][:, None, :], 2 * free.size + turns.size, axis=1)
            step = size[go_on][:, None] * span
            for k, which in enumerate(free):
                near[:, 2 * k, which] += step[:, k]
                near[:, 2 * k + 1, which] -= step[:, k]
            for k, which in enumerate(turns):
                near[:, 2 * free.size + k, which] = np.where(near[:, 0, which] > 0.5, 0.0, 1.0)
            near = np.clip(near, low, high)
            found = self.costs(near.reshape(-1, len(low))).reshape(go_on.size, -1)
            best = found.argmin(axis=1)
            better = found[np.arange(go_on.size), best] < costs[go_on] - 1e-6
            rows[go_on[better]] = near[better, best[better]]
            costs[go_on[better]] = found[better, best[better]]
            size[go_on[~better]] /= 2
        return costs, rows

    def settings(self, row: NDArray) -> tuple[SubSetting, ...]:
        """A row as settings, rounded to 10 microseconds and a tenth of a decibel."""
        delay, polarity, gain, sections = (part[0] for part in self.parts(row[None]))
        delay = np.round((delay - delay.min()) / _STEP_S) * _STEP_S
        gain = np.round(gain / _STEP_DB) * _STEP_DB
        return tuple(SubSetting(
            delay_s=float(delay[k]), polarity=1 if polarity[k] > 0 else -1, gain_db=float(gain[k]),
            all_pass=tuple((float(f), float(q)) for f, q in sections[k])) for k in range(self._n))
