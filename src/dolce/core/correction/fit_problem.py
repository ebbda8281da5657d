"""What a set of bands is judged by: how far it is from the desired correction, and which limits it breaks."""

from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.correction.band_rows import (
    COLUMNS,
    HIGH_SHELF,
    KIND,
    LOW_SHELF,
    PEAKING,
    VALUES,
    Bands,
    filter_of,
    levels_and_slopes,
    with_values,
)
from dolce.core.correction.limits import Limits
from dolce.core.correction.plan import LEAST_SHARE, LOUD_DB, CorrectionPlan
from dolce.core.correction.target import MEAN_BAND_HZ
from dolce.core.dsp import in_band, mid_bands
from dolce.core.filters import BandFilter, chain_level_db, peaking_levels_db

QUIET_OUTSIDE_DB = 0.3  # what the bands may do half an octave outside the range and further
_SKIRT_DB, _SKIRT_OCTAVES = 3.0, 0.5  # more right beside it: a band has skirts, and a steep end would need two
FREE_MEAN_DB = 0.5  # the correction's mean over 200-2000 Hz may fall so far; further lowers the boost
LOWEST_MEAN_DB = 0.93  # and never falls further than this: the level is not the bands' business
_FOUGHT = 0.5  # of the stronger of two opposite filters: they oppose where they take more than that
_OPPOSED_OCTAVES, _OPPOSED_DB = 1 / 3, 2.9  # nearer than that two opposite filters of so much each do, too
_OPPOSED, _KEPT_APART, _KEPT_WEAK = 60.0, 1.02, 0.97  # weight of such a pair in a fit, a little before it counts
_UNDONE = 0.5  # of a boost: a wider cut that takes more than this at its centre is undone by it
_DOUBLE_OCTAVES = 0.11  # two of one sign and of like width that are nearer do as one
_KEPT_BELOW_DB = 0.15  # of what may be done where nothing should be: left for rounding and smoothing
WORTH_DB = 0.25  # a band with less gain than this is dropped
_BARRIER = 12.0  # weight of a broken limit against a missed correction
_SUNK = 60.0  # and of a level that sinks too far, which is one number and not one for each point
_BESIDE = 0.25  # weight of what is heard outside the range, which moves with that mean
_STEPS, _SETTLED = 60, 3e-4  # of a fit: at most so many, until one gains less than this part of the cost
_DAMPING, _STUCK = 1e-2, 1e7
_PER_OCTAVE, _PER_OCTAVE_OUTSIDE, _PER_OCTAVE_CHECKED = 24, 8, 288

# Ends of what is heard: a range that reaches as far is open there, and shelves may end it.
AUDIBLE_HZ = (25.0, 15_000.0)
_SHELF_Q = (0.4, 1.0)  # steeper ones swing beyond their gain


class FitProblem:
    """The grid, the desired correction and the limits of one fit.

    Attributes
    ----------
    at_hz, desired, root : ndarray, shape (points,)
        The grid, the desired correction on it in dB, and the square root of its weight.
    shelves : tuple
        The kinds of shelf that may be used: where the range is open at its end. A low one only cuts, since what it
        raised below the range would cost excursion and be heard by nobody.
    """

    def __init__(self, plan: CorrectionPlan, limits: Limits, sample_rate_hz: float) -> None:
        self.limits, self.rate = limits, sample_rate_hz
        low, high = limits.from_hz, limits.to_hz
        # Fine inside the range and for half an octave around it; sparse further out, where only quietness is asked.
        top = min(22_000.0, 0.48 * sample_rate_hz)
        fine = mid_bands(per_octave=_PER_OCTAVE, from_hz=low / 1.4, to_hz=min(high * 1.4, top))
        # Denser where the mean is taken.
        coarse = np.concatenate(
            [
                mid_bands(per_octave=_PER_OCTAVE_OUTSIDE, from_hz=min(5.0, low / 2), to_hz=top),
                mid_bands(
                    per_octave=2 * _PER_OCTAVE_OUTSIDE, from_hz=MEAN_BAND_HZ[0], to_hz=min(MEAN_BAND_HZ[1] * 1.1, top)
                ),
            ]
        )
        coarse = coarse[(coarse < low / 1.4) | (coarse > high * 1.4)]
        self.at_hz = np.unique(np.concatenate([coarse, fine, [low, high]]))
        self.inside = (self.at_hz > low * 1.0001) & (self.at_hz < high * 0.9999)
        octave, plan_octave = np.log2(self.at_hz), np.log2(plan.frequency_hz)
        self.desired = self.on_grid(plan.frequency_hz, plan.desired_db)
        share = np.gradient(octave)
        weight = (
            np.where(self.inside, np.interp(octave, plan_octave, plan.weight), 0.0) * share / share[self.inside].mean()
        )
        self.root, self._root_square, self._share = np.sqrt(weight), weight.sum(), share
        mean_band = in_band(self.at_hz, MEAN_BAND_HZ)
        self._mean_share = np.where(mean_band, share, 0.0) / share[mean_band].sum()
        beside = max(np.log2(AUDIBLE_HZ[1] / high), 0.0) + max(np.log2(low / AUDIBLE_HZ[0]), 0.0)
        self._root_outside = np.sqrt(_BESIDE * _PER_OCTAVE * beside)
        open_ends = {LOW_SHELF: low <= AUDIBLE_HZ[0], HIGH_SHELF: high >= AUDIBLE_HZ[1]}
        self.shelves = tuple(kind for kind, is_open in open_ends.items() if is_open and limits.shelves)
        self._plan = plan
        gains_outside = zip(self._quiet_at(self.at_hz), self._held_at(self.at_hz), strict=True)
        self._outside_up, self._outside_down = (np.minimum(0.6 * quiet, held) for quiet, held in gains_outside)
        self.low_bounds = np.array([np.log(low * 1.02), -max(limits.max_cut_db, 0.01), np.log(limits.min_q)])
        single_db = limits.max_boost_db + limits.more_for_one_db if limits.max_boost_db else 0.0
        highest = min(single_db, limits.highest_gain_db)
        self.high_bounds = np.array([np.log(high * 0.98), max(highest, 0.01), np.log(limits.max_q)])
        self._above = np.log(max(min(limits.max_q_above, limits.max_q), limits.min_q * 1.01))

    def on_grid(self, frequency_hz: NDArray, desired_db: NDArray) -> NDArray[np.float64]:
        """A desired correction on the grid, nothing outside the range."""
        return np.where(self.inside, np.interp(np.log2(self.at_hz), np.log2(frequency_hz), desired_db), 0.0)

    def within(self, bands: Bands) -> Bands:
        """Bands drawn back to what they may be; narrow ones only where they are allowed."""
        low, high = self._bounds_of(bands[..., 0], bands[..., 1], bands[..., KIND])
        return np.concatenate([np.clip(bands[..., :VALUES], low, high), bands[..., KIND:]], axis=-1)

    def _bounds_of(self, log_frequency: NDArray, gain_db: NDArray, kinds: NDArray) -> tuple[NDArray, NDArray]:
        """Lowest and highest values of bands, shape (..., 3); the largest Q goes with frequency and sign."""
        shape = (*kinds.shape, VALUES)
        low, high = np.broadcast_to(self.low_bounds, shape).copy(), np.broadcast_to(self.high_bounds, shape).copy()
        high[..., 2] = self._highest_q(np.clip(log_frequency, self.low_bounds[0], self.high_bounds[0]))
        boosts = np.maximum(np.log(self.limits.max_boost_q), low[..., 2])
        high[..., 2] = np.where(gain_db > 0, np.minimum(high[..., 2], boosts), high[..., 2])
        if kinds.any():
            low[kinds != PEAKING, 2], high[kinds != PEAKING, 2] = np.log(_SHELF_Q)
            high[kinds == LOW_SHELF, 1] = 0.0
        return low, high

    def _highest_q(self, log_frequency: NDArray) -> NDArray:
        """Logarithm of the largest Q at a frequency."""
        return np.where(log_frequency > np.log(self.limits.narrow_to_hz), self._above, self.high_bounds[2])

    def _quiet_at(self, at_hz: NDArray) -> tuple[NDArray, NDArray]:
        """What bands may add and take away outside the range; infinite inside, and where a shelf may end it."""
        off = np.maximum(np.log2(self.limits.from_hz / at_hz), np.log2(at_hz / self.limits.to_hz))
        quiet = np.where(
            off < 1e-4, np.inf, QUIET_OUTSIDE_DB + _SKIRT_DB * np.clip(1 - off / _SKIRT_OCTAVES, 0, 1) ** 2
        )
        below = (at_hz < self.limits.from_hz) & (LOW_SHELF in self.shelves)
        above = (at_hz > self.limits.to_hz) & (HIGH_SHELF in self.shelves)
        return np.where(above, np.inf, quiet), np.where(above | below, np.inf, quiet)

    def _held_at(self, at_hz: NDArray) -> tuple[NDArray, NDArray]:
        """What filters may add and take away by the verdicts of the plan; infinite where they are free."""
        places = np.clip(np.searchsorted(self._plan.frequency_hz, at_hz), 0, self._plan.frequency_hz.size - 1)
        return self._plan.most_up_db[places] - _KEPT_BELOW_DB, self._plan.most_down_db[places] - _KEPT_BELOW_DB

    def missed_db(self, bands: Bands) -> NDArray[np.float64]:
        """What more bands could still add or take away of what is missed, no more than limits leave."""
        total = self.total(bands)
        up = np.minimum(self.limits.max_boost_db, self._outside_up) - total
        down = -np.minimum(self.limits.max_cut_db, self._outside_down) - total
        return np.clip(self.desired - total, np.minimum(down, 0.0), np.maximum(up, 0.0))

    def loud_left_db(self, bands: Bands) -> NDArray[np.float64]:
        """How far the energy average of the spots is above what is to be left of it, inside the range, shape (points,).

        What lies deeper than the largest cut can't be asked for, and hills that others play most of are theirs to cut.
        """
        at, plan_octave = np.log2(self.at_hz), np.log2(self._plan.frequency_hz)
        loud, share = (np.interp(at, plan_octave, array) for array in (self._plan.loud_db, self._plan.share))
        residual = loud - np.maximum(LOUD_DB, loud - share * self.limits.max_cut_db) + share * self.total(bands)
        return np.where(self.inside & (share > LEAST_SHARE), residual, -np.inf)

    def total(self, bands: Bands) -> NDArray[np.float64]:
        """Level of all bands together, shape (..., points)."""
        return self._levels(bands).sum(axis=-2)

    def cost(self, bands: Bands) -> NDArray[np.float64]:
        """Sum of squares of all that is missed or broken, shape (...)."""
        return np.sum(self.residuals(bands) ** 2, axis=-1)

    def opposing(self, bands: Bands) -> NDArray[np.bool_]:
        """Of every pair of bands (i < j), shape (..., pairs) in the order of `np.triu_indices`, whether they oppose or
        repeat each other: nobody would set such a pair on a device.

        Two peaking filters of opposite sign do where they take from each other more than half of what the stronger one
        does, in dB over octaves; where both have 3 dB or more within a third of an octave; and where a boost is in a
        wider cut that takes more than half of it. Two of one sign and like width do within a tenth of an octave.
        """
        first, second = np.triu_indices(bands.shape[-2], 1)
        first_gain, other = bands[..., first, :], bands[..., second, :]
        apart = np.abs(first_gain[..., 0] - other[..., 0]) / np.log(2)
        peaking = (first_gain[..., KIND] == PEAKING) & (other[..., KIND] == PEAKING)
        opposite = first_gain[..., 1] * other[..., 1] < 0
        levels = np.abs(self._levels(bands))
        areas = levels @ self._share
        common = np.minimum(levels[..., first, :], levels[..., second, :]) @ self._share
        taken = common > _FOUGHT * np.maximum(areas[..., first], areas[..., second])
        near = (apart < _OPPOSED_OCTAVES) & (
            np.minimum(np.abs(first_gain[..., 1]), np.abs(other[..., 1])) > _OPPOSED_DB
        )
        boost, cut = (
            np.where((first_gain[..., 1] > 0)[..., None], *pair) for pair in ((first_gain, other), (other, first_gain))
        )
        undone = (cut[..., 2] < boost[..., 2]) & (-_level_at(cut, boost[..., 0]) > _UNDONE * boost[..., 1])
        same = (apart < _DOUBLE_OCTAVES) & (np.abs(first_gain[..., 2] - other[..., 2]) < 1.05 * np.log(2))
        return peaking & np.where(opposite, taken | near | undone, same)

    def residuals(self, bands: Bands) -> NDArray[np.float64]:
        """Missed correction, sound outside the range, and broken limits (boost absolute and relative to the mean; cut;
        level); shape (..., residuals).

        The desired correction is missed at the level that the channel is brought to again afterwards, by its mean over
        200-2000 Hz.
        """
        return np.concatenate([*self._parts(self.total(bands), self.desired), _opposed(bands)[0]], axis=-1)

    def _parts(self, total: NDArray, desired: NDArray) -> tuple[NDArray, NDArray, NDArray]:
        """Residuals of the desired correction and outside the range, of broken limits, and of a mean that moves or
        sinks too far."""
        mean = (total @ self._mean_share)[..., None]
        broken = np.maximum(total - self._allowed_at(mean), 0) + np.maximum(-total - self.limits.max_cut_db, 0)
        gain_outside = np.maximum(total - self._outside_up, 0) - np.maximum(-total - self._outside_down, 0)
        sunk = np.maximum(-mean - 0.95 * LOWEST_MEAN_DB, 0.0)
        shifted = np.concatenate([_SUNK * sunk, self._root_outside * mean], axis=-1)
        return self.root * (total - mean - desired) + _BARRIER * gain_outside, _BARRIER * broken, shifted

    def polished(
        self,
        bands: Bands,
        *,
        steps: int = _STEPS,
        to: float = _SETTLED,
        free: int | None = None,
        desired: NDArray | None = None,
    ) -> Bands:
        """All bands of each set fitted together; shape as given.

        Parameters
        ----------
        bands : shape (..., bands, 4)
        free : int, optional
            Only so many at the front may move; of the others gains alone are fitted, and the order stays.
        desired : ndarray, shape (sets, points), optional
            Of each set, in place of the one for all.

        Notes
        -----
        Levenberg and Marquardt's damped steps for all sets at once, drawn back into the bounds of each value; a value
        at its bound that would go further stays there. After J. Nocedal and S. J. Wright, "Numerical Optimization"
        (2006), chapters 10 and 16.
        """
        if not bands.size:
            return bands
        shape, count = bands.shape, bands.shape[-2]
        free = count if free is None else free
        sets = bands.reshape(-1, count, COLUMNS).copy()
        sets[:, :free] = self.within(sets[:, :free])
        kinds = sets[..., KIND]
        x = sets[..., :VALUES].reshape(-1, VALUES * count)
        options_by_job = np.broadcast_to(self.desired if desired is None else desired, (len(x), self.at_hz.size))
        damping = np.full(len(x), _DAMPING)
        going = np.arange(len(x))
        cost, gradient, square = self._normal(sets, options_by_job)
        index = np.arange(VALUES * count)
        for _ in range(steps):
            low, high = self._bounds(x[going], kinds[going], free)
            held = ((x[going] <= low) & (gradient > 0)) | ((x[going] >= high) & (gradient < 0))
            downhill = np.where(held, 0, gradient)
            damped = np.where(held[:, :, None] | held[:, None, :], 0, square)
            damped[:, index, index] += damping[going, None] * damped[:, index, index] + 1e-9 + held
            tried = x[going] - np.linalg.solve(damped, downhill[..., None])[..., 0]
            tried = np.clip(tried, *self._bounds(tried, kinds[going], free, of=x[going]))
            new_cost, new_gradient, new_square = self._normal(with_values(tried, kinds[going]), options_by_job[going])
            better = new_cost < cost[going]
            small = better & (new_cost > (1 - to) * cost[going])
            x[going[better]], cost[going[better]] = tried[better], new_cost[better]
            gradient[better], square[better] = new_gradient[better], new_square[better]
            damping[going] = np.where(better, damping[going] / 4, damping[going] * 5)
            stay = ~small & (damping[going] < _STUCK)
            going, gradient, square = going[stay], gradient[stay], square[stay]
            if not going.size:
                break
        made = with_values(x, kinds)
        if free == count:
            order = np.argsort(made[:, :, 0], axis=1, kind="stable")
            made = np.take_along_axis(made, order[:, :, None], axis=1)
        return made.reshape(shape)

    def _bounds(self, x: NDArray, kinds: NDArray, free: int, of: NDArray | None = None) -> tuple[NDArray, NDArray]:
        """Bounds of every value, shape (sets, 3 bands); frequency and Q of fixed bands stay as they are (`of`)."""
        values = x.reshape(*kinds.shape, VALUES)
        kept = values if of is None else of.reshape(values.shape)
        low, high = self._bounds_of(values[..., 0], values[..., 1], kinds)
        for k in (0, 2):
            low[:, free:, k] = high[:, free:, k] = kept[:, free:, k]
        return low.reshape(x.shape), high.reshape(x.shape)

    def _levels(self, bands: Bands) -> NDArray:
        if (bands[..., KIND] != PEAKING).any():
            return levels_and_slopes(bands, at_hz=self.at_hz, sample_rate_hz=self.rate)[0]
        flat = bands.reshape(-1, COLUMNS)
        levels = peaking_levels_db(
            np.exp(flat[:, 0]), flat[:, 1], np.exp(flat[:, 2]), at_hz=self.at_hz, sample_rate_hz=self.rate
        )
        return levels.reshape(*bands.shape[:-1], self.at_hz.size)

    def _allowed_at(self, mean_db: ArrayLike) -> NDArray:
        """Largest sum of all bands: the limit, lowered by how far the mean of 200-2000 Hz sinks below what is free.

        A twentieth more is kept, since others may take the mean over other points.
        """
        return self.limits.max_boost_db + np.minimum(0.0, FREE_MEAN_DB + 1.05 * np.asarray(mean_db))

    def _normal(self, bands: Bands, desired: NDArray) -> tuple[NDArray, NDArray, NDArray]:
        """Cost of sets of bands, half its gradient, and its square of slopes: shapes (sets,), (sets, p), (sets, p, p)
        for p = 3 bands.

        Every residual is a weight times the total at its point, less a weight times the total's mean; so the squares
        of slopes follow from one product, and slopes by residual are never written down.
        """
        sets, count = bands.shape[:2]
        levels, slopes = levels_and_slopes(bands, at_hz=self.at_hz, sample_rate_hz=self.rate)
        total, slopes = levels.sum(axis=1), slopes.reshape(sets, VALUES * count, -1)
        mean, mean_slopes = (total @ self._mean_share)[:, None], slopes @ self._mean_share  # (sets, 1), (sets, p)
        missed, broken, shifted = self._parts(total, desired)
        allowed = self._allowed_at(mean)
        over, under = _BARRIER * (total > allowed), _BARRIER * (-total > self.limits.max_cut_db)
        stiffness = self.root + _BARRIER * ((total > self._outside_up) | (-total > self._outside_down))
        beyond = over - under
        of_mean = 1.05 * over * (allowed < self.limits.max_boost_db)
        both = stiffness**2 + beyond**2  # of the total at each point
        cross = stiffness * self.root + over * of_mean  # with the mean
        alone = (
            self._root_square + (of_mean**2).sum(axis=-1) + (_SUNK * (shifted[:, 0] > 0)) ** 2 + self._root_outside**2
        )
        # What the mean adds: half of its own square and the rest stand twice in the product, once for each side.
        with_mean = 0.5 * alone[:, None] * mean_slopes - np.matmul(slopes, cross[..., None])[..., 0]
        crossed = with_mean[:, :, None] * mean_slopes[:, None, :]
        square = np.matmul(slopes * both[:, None, :], slopes.transpose(0, 2, 1)) + crossed + crossed.transpose(0, 2, 1)
        by_mean = -(self.root * missed + of_mean * broken).sum(axis=-1, keepdims=True)
        by_mean += self._root_outside * shifted[:, 1:] - _SUNK * shifted[:, :1]
        gradient = np.matmul(slopes, (stiffness * missed + beyond * broken)[..., None])[..., 0] + by_mean * mean_slopes
        opposed, jacobian = _opposed(bands)
        some = opposed.any(axis=-1)
        gradient[some] += np.matmul(opposed[some, None, :], jacobian[some])[:, 0]
        square[some] += np.matmul(jacobian[some].transpose(0, 2, 1), jacobian[some])
        cost = sum(np.einsum("sk,sk->s", part, part) for part in (missed, broken, shifted, opposed))
        return cost, gradient, square

    def rounded(self, bands: Bands) -> list[BandFilter]:
        """Bands in the steps that people type, without those that do next to nothing."""
        return [filter_of(row).rounded() for row in bands if abs(row[1]) >= WORTH_DB]

    def repaired(self, filters: list[BandFilter]) -> list[BandFilter]:
        """Gains taken back by 0.1 dB at a time, the band that adds most where a limit is broken first."""
        at_hz = np.unique(
            np.concatenate([self.at_hz, mid_bands(per_octave=_PER_OCTAVE_CHECKED, from_hz=5.0, to_hz=self.at_hz[-1])])
        )
        quiet_up, quiet_down = (
            np.minimum(*pair) for pair in zip(self._quiet_at(at_hz), self._held_at(at_hz), strict=True)
        )
        # Narrow bands stand between the points of the fit: here the mean is taken finely.
        share = np.where(in_band(at_hz, MEAN_BAND_HZ), np.gradient(np.log2(at_hz)), 0.0)
        share /= share.sum()
        known: dict[BandFilter, NDArray] = {}
        for _ in range(2000):
            if not filters:
                break
            known |= {f: chain_level_db([f], at_hz=at_hz, sample_rate_hz=self.rate) for f in filters if f not in known}
            levels = np.array([known[f] for f in filters])
            total = levels.sum(axis=0)
            mean_of_bands = levels @ share
            mean = float(mean_of_bands.sum())
            over = total - self._allowed_at(mean)
            under = -total - self.limits.max_cut_db
            gain_outside = np.maximum(total - quiet_up, -total - quiet_down)
            if over.max() > 1e-3:
                blame = levels[:, int(np.argmax(over))]
            elif under.max() > 1e-3:
                blame = -levels[:, int(np.argmax(under))]
            elif mean < -LOWEST_MEAN_DB:
                blame = -mean_of_bands
            elif gain_outside.max() > 0:
                k = int(np.argmax(gain_outside))
                blame = levels[:, k] * np.sign(total[k])
            else:
                break
            worst = int(np.argmax(blame))
            if blame[worst] <= 1e-6:
                # Boost broken only because the mean is low: take back the strongest cut that lowers it.
                worst = int(np.argmin(mean_of_bands))
            f = filters[worst]
            gain = round(f.gain_db - (0.1 if f.gain_db > 0 else -0.1), 1)
            if abs(gain) < 0.05:
                filters = filters[:worst] + filters[worst + 1 :]
            else:
                changed = replace(f, gain_db=gain)
                filters = [*filters[:worst], changed, *filters[worst + 1 :]]
        return filters


def _level_at(bands: Bands, log_frequency: NDArray) -> NDArray:
    """Level of peaking bands at one frequency each, by the analogue prototype (see `peaking_levels_db`)."""
    t, a = np.exp(log_frequency - bands[..., 0]), 10 ** (bands[..., 1] / 40)
    flat, side = (1 - t**2) ** 2, (t / np.exp(bands[..., 2])) ** 2
    return 10 * np.log10((flat + side * a**2 + 1e-12) / (flat + side / a**2 + 1e-12))


def _opposed(bands: Bands) -> tuple[NDArray, NDArray]:
    """Residual of every pair of opposite filters that are strong and near, shape (..., pairs), and its slopes by the
    values of all filters, shape (..., pairs, 3 bands): so that a fit moves them apart or makes the weaker one smaller.
    Pairs that are neither in any set are left out.
    """
    count = bands.shape[-2]
    first, second = np.triu_indices(count, 1)
    gains = np.where(bands[..., KIND] == PEAKING, bands[..., 1], 0.0)
    first_gain, other = gains[..., first], gains[..., second]
    apart = (bands[..., first, 0] - bands[..., second, 0]) / np.log(2)
    near = np.maximum(_KEPT_APART * _OPPOSED_OCTAVES - np.abs(apart), 0) * (first_gain * other < 0)
    strong = np.maximum(np.minimum(np.abs(first_gain), np.abs(other)) - _KEPT_WEAK * _OPPOSED_DB, 0)
    opposing = ((near > 0) & (strong > 0)).any(axis=tuple(range(near.ndim - 1)))
    first, second, near, strong = (first[opposing], second[opposing], near[..., opposing], strong[..., opposing])
    apart, first_gain, other = apart[..., opposing], first_gain[..., opposing], other[..., opposing]
    slopes = np.zeros((*near.shape, VALUES * count))
    row = np.arange(first.size)
    by_place = -_OPPOSED * strong * np.sign(apart) * (near > 0) / np.log(2)
    slopes[..., row, VALUES * first], slopes[..., row, VALUES * second] = by_place, -by_place
    first_is_weaker = np.abs(first_gain) <= np.abs(other)
    weaker = np.where(first_is_weaker, first, second)
    by_gain = _OPPOSED * near * (strong > 0) * np.sign(np.where(first_is_weaker, first_gain, other))
    np.put_along_axis(slopes, (VALUES * weaker + 1)[..., None], by_gain[..., None], axis=-1)
    return _OPPOSED * near * strong, slopes
