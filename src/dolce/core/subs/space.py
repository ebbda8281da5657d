"""Settings of all subs as rows of numbers: what they cost, which way is downhill, and which are at one place."""

import itertools
import threading

import numpy as np
from numpy.typing import NDArray

from dolce.core.subs.cost import SearchLimits, too_soft, unevenness
from dolce.core.subs.field import BassField, SubSetting

_ALL_PASS_HZ, _ALL_PASS_Q = (20.0, 120.0), (0.3, 3.0)
_AT_ONCE = 64
_STEP_S, _STEP = 0.001, 1.0  # first steps downhill: of delays, and of gains and all-passes
_ASLANT = 6  # directions along none of the numbers, and as many back
_BETTER = 1e-6
_SAME_PLACE_S = 0.002  # delays closer than that lead downhill to one place
_ROUND_S, _ROUND_DB, _ROUNDED_BOTH_WAYS = 1e-5, 0.1, 6
_QUIETER_SELDOM = 1.5  # gains by chance are closer to 0 than evenly spread ones
# Of each step of output the most even row is kept, as far as so much below the limit.
_FRONT_STEP_DB, _FRONT_BEYOND_DB = 0.5, 3.0


class SettingSpace:
    """Rows of delays and polarities against the first sub, then gains where they are free, then all-passes.

    Attributes
    ----------
    low, high : ndarray, shape (numbers,)
        Between them a row lies. Polarities are turned above 0.5; all-passes count in octaves.
    of_sub : tuple of ndarray
        Which numbers are those of each sub.
    delays, turns : ndarray
        Which numbers are delays, and which are polarities.
    """

    def __init__(self, field: BassField, limits: SearchLimits) -> None:
        self._field, self._limits, n = field, limits, field.count
        self._n = n
        gains = n if limits.max_cut_db else 0
        self._gains_at, self._sections_at = 2 * n - 2, 2 * n - 2 + gains
        bounds = [(-limits.max_delay_s, limits.max_delay_s)] * (n - 1) + [(0.0, 1.0)] * (n - 1)
        bounds += [(-limits.max_cut_db, 0.0)] * gains
        bounds += [tuple(np.log2(_ALL_PASS_HZ)), tuple(np.log2(_ALL_PASS_Q))] * (n * limits.all_passes)
        self.low, self.high = np.array(bounds).reshape(-1, 2).T
        self.delays, self.turns = np.arange(n - 1), np.arange(n - 1, 2 * n - 2)
        self._free = np.setdiff1d(np.arange(self.low.size), self.turns)
        each = 2 * limits.all_passes
        self.of_sub = tuple(
            np.concatenate(
                [
                    self.delays[k - 1 : k] if k else [],
                    self.turns[k - 1 : k] if k else [],
                    [self._gains_at + k] if gains else [],
                    self._sections_at + k * each + np.arange(each),
                ]
            ).astype(int)
            for k in range(n)
        )
        self._turn = (-2 * np.pi * field.frequency_hz).astype(np.float32)
        self._met: dict[int, tuple[float, NDArray]] = {}
        self._lock = threading.Lock()

    def random(self, count: int, rng: np.random.Generator) -> NDArray[np.float64]:
        """Rows from anywhere between the bounds."""
        part = rng.random((count, self.low.size))
        gains = slice(self._gains_at, self._sections_at)
        part[:, gains] = 1 - part[:, gains] ** _QUIETER_SELDOM
        return self.low + part * (self.high - self.low)

    def met(self) -> list[NDArray]:
        """The most even row of each step of output that was asked for so far."""
        with self._lock:
            return [row for _, row in self._met.values()]

    def costs(self, rows: NDArray) -> NDArray:
        """Of rows, as many at a time as memory allows."""
        out = []
        for part in np.array_split(rows, max(1, len(rows) // _AT_ONCE)):
            delay, polarity, gain, sections = self._parts(part)
            strength = (polarity * 10 ** (gain / 20)).astype(np.float32)[..., None]
            turn = delay.astype(np.float32)[..., None] * self._turn
            weights = np.empty(turn.shape, dtype=np.complex64)  # twice as fast as a complex power of e
            weights.real, weights.imag = strength * np.cos(turn), strength * np.sin(turn)
            for k in range(self._limits.all_passes):
                s = 1j * self._field.frequency_hz / sections[:, :, k, :1]
                q = sections[:, :, k, 1:]
                weights = weights * (s * s - s / q + 1) / (s * s + s / q + 1)
            out.append(self._noted(part, self._field.levels_db(weights, fast=True)))
        return np.concatenate(out)

    def walked_downhill(
        self, rows: NDArray, costs: NDArray, *, steps: int, first: float = 1.0, smallest: float
    ) -> tuple[NDArray, NDArray]:
        """Rows, each walked downhill by itself in ever smaller steps, and their costs; all of them at once.

        A pattern search (R. Hooke and T. A. Jeeves, J. ACM 8, 212-229, 1961): of all steps along one number, all
        turned polarities, some steps aslant, and all steps that help at once, each row takes the best; where none
        helps, its steps are halved. `first` and `smallest` are parts of the usual step.
        """
        rows, costs, size = rows.copy(), costs.copy(), np.full(len(rows), first)
        for number in range(steps):
            going = np.flatnonzero(size > smallest)
            if not going.size:
                break
            here, cost = rows[going], costs[going]
            near = self._around(here, size[going], number)
            found = self.costs(near.reshape(-1, self.low.size)).reshape(going.size, -1)
            together = self._all_that_help(here, cost, near, found)
            near = np.concatenate([near, together[:, None]], axis=1)
            found = np.concatenate([found, self.costs(together)[:, None]], axis=1)
            best = np.arange(going.size), found.argmin(axis=1)
            better = found[best] < cost - _BETTER
            rows[going[better]], costs[going[better]] = near[best][better], found[best][better]
            size[going[~better]] /= 2
        return rows, costs

    def _around(self, rows: NDArray, size: NDArray, number: int) -> NDArray[np.float64]:
        """One step ahead along each free number, one back, each polarity inverted, some aslant: (rows, steps, ...)."""
        free, count = self._free, self._free.size
        step = size[:, None] * np.where(np.isin(free, self.delays), _STEP_S, _STEP)
        aslant = _aslant(count, number)
        near = np.repeat(rows[:, None, :], 2 * count + self.turns.size + len(aslant), axis=1)
        each, turned = np.arange(count), 2 * count + np.arange(self.turns.size)
        near[:, each, free] += step
        near[:, count + each, free] -= step
        near[:, turned, self.turns] = np.where(rows[:, self.turns] > 0.5, 0.0, 1.0)
        near[:, 2 * count + self.turns.size :, free] += step[:, None, :] * aslant
        return np.clip(near, self.low, self.high)

    def _all_that_help(self, rows: NDArray, costs: NDArray, near: NDArray, found: NDArray) -> NDArray[np.float64]:
        """Of what lies around, every step along a number that helps by itself taken at once."""
        free, each = self._free, np.arange(self._free.size)
        ahead, back = found[:, each], found[:, free.size + each]
        moved = np.where(ahead <= back, near[:, each, free], near[:, free.size + each, free])
        together = rows.copy()
        together[:, free] = np.where(np.minimum(ahead, back) < costs[:, None], moved, rows[:, free])
        return together

    def distinct(self, rows: NDArray, costs: NDArray, most: int) -> tuple[NDArray, NDArray]:
        """The best rows, best first, one of each place: delays within 2 ms and polarities alike."""
        order = np.argsort(costs, kind="stable")
        place = np.concatenate([np.round(rows[:, self.delays] / _SAME_PLACE_S), rows[:, self.turns] > 0.5], axis=1)
        _, first = np.unique(place[order], axis=0, return_index=True)
        kept = order[np.sort(first)[:most]]
        return rows[kept], costs[kept]

    def settings(self, row: NDArray) -> tuple[SubSetting, ...]:
        """A row as settings, rounded to 10 microseconds and a tenth of a decibel.

        Of all ways to round gains up or down the best: where the loss that is allowed is reached, a tenth matters.
        """
        delay, polarity, gain, sections = (part[0] for part in self._parts(row[None]))
        delay = np.round((delay - delay.min()) / _ROUND_S) * _ROUND_S
        gain = np.maximum(_ROUND_DB * _roundings(gain / _ROUND_DB), -self._limits.max_cut_db)
        rounded = np.repeat(row[None], len(gain), axis=0)
        rounded[:, self.delays] = delay[1:] - delay[0]
        if self._limits.max_cut_db:
            rounded[:, self._gains_at : self._sections_at] = gain
        gain = gain[np.argmin(self.costs(rounded))]
        return tuple(
            SubSetting(
                delay_s=float(delay[k]),
                polarity=1 if polarity[k] > 0 else -1,
                gain_db=float(gain[k]) + 0.0,
                all_pass=tuple((float(f), float(q)) for f, q in sections[k]),
            )
            for k in range(self._n)
        )

    def _noted(self, rows: NDArray, levels_db: NDArray) -> NDArray:
        """Cost of rows; of each output the most even one is kept."""
        even, output = unevenness(self._field, levels_db), self._field.output_db(levels_db)
        steps = np.round(output / _FRONT_STEP_DB).astype(int)
        with self._lock:
            for k in np.flatnonzero(output > -self._limits.max_loss_db - _FRONT_BEYOND_DB):
                if even[k] < self._met.get(int(steps[k]), (np.inf, None))[0]:
                    self._met[int(steps[k])] = float(even[k]), rows[k].copy()
        return even + too_soft(output, self._limits)

    def _parts(self, rows: NDArray) -> tuple[NDArray, NDArray, NDArray, NDArray]:
        """Delays, polarities, gains and all-passes of rows, each shape (rows, subs[, sections, 2])."""
        n, count = self._n, rows.shape[0]
        delay = np.concatenate([np.zeros((count, 1)), rows[:, self.delays]], axis=1)
        delay = np.minimum(delay - delay.min(axis=1, keepdims=True), self._limits.max_delay_s)
        polarity = np.concatenate([np.ones((count, 1)), np.where(rows[:, self.turns] > 0.5, -1.0, 1.0)], axis=1)
        gain = np.zeros((count, n))
        if self._limits.max_cut_db:
            gain = rows[:, self._gains_at : self._sections_at]
            gain = gain - gain.max(axis=1, keepdims=True)
        sections = 2 ** rows[:, self._sections_at :].reshape(count, n, self._limits.all_passes, 2)
        return delay, polarity, gain, sections


def _aslant(numbers: int, step: int) -> NDArray[np.float64]:
    """Directions along none of the numbers, shape (directions, numbers): others at each step, the same every time.

    Where the loss that is allowed is reached, a valley runs aslant, and along each number it goes up.
    """
    drawn = np.random.default_rng(step).normal(size=(_ASLANT, numbers))
    return np.concatenate([drawn, -drawn]) * 0.7


def _roundings(values: NDArray) -> NDArray[np.float64]:
    """Values rounded down and up in every combination, shape (ways, values); beyond the first six to the nearest."""
    near = np.round(values)
    ways = itertools.product(*(sorted({np.floor(value), np.ceil(value)}) for value in values[:_ROUNDED_BOTH_WAYS]))
    return np.array([[*inverted, *near[_ROUNDED_BOTH_WAYS:]] for inverted in ways])
