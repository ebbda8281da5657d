"""What a set of bands is judged by: how much it misses of a wish, and which limits it breaks."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.correction.plan import MEAN_BAND_HZ, CorrectionPlan, Limits
from dolce.core.filters import PeakingFilter, peaking_levels_db, peaking_slopes_db
from dolce.core.levels import mid_bands

QUIET_OUTSIDE_DB = 0.3           # what the bands may do half an octave outside the range and further
_SKIRT_DB, _SKIRT_OCTAVES = 3.0, 0.5     # more right beside it: a band has skirts, and a steep end would need two
FREE_MEAN_DB = 0.5               # the correction's mean over 200-2000 Hz may fall so far; further lowers the boost
LOWEST_MEAN_DB = 0.93            # and never falls further than this: the level is not the bands' business
APART_OCTAVES = 1 / 3            # two bands of opposite sign nearer than that fight each other
WORTH_DB = 0.25                  # a band with less gain than this is dropped
_BARRIER = 12.0                  # weight of a broken limit against a missed wish
_OPPOSED_WITHIN = 0.36           # octaves; rounding takes a little
_SUNK = 60.0                     # and of a level that sinks too far, which is one number and not one for each point
_FLOOR = 1e-2                    # of a product of gains, for the slope of its root
_MOST_EVALUATIONS = 60
_PER_OCTAVE, _PER_OCTAVE_OUTSIDE, _PER_OCTAVE_CHECKED = 24, 12, 72

# Rows of one band each: logarithm of its frequency, its gain in dB, logarithm of its Q.
Bands = NDArray[np.float64]


class FitProblem:
    """The grid, the wish and the limits of one fit.

    Attributes
    ----------
    at_hz, wish, root : ndarray, shape (points,)
        The grid, the wish on it in dB, and the square root of its weight.
    """

    def __init__(self, plan: CorrectionPlan, limits: Limits, sample_rate_hz: float) -> None:
        self.limits, self.rate = limits, sample_rate_hz
        low, high = limits.from_hz, limits.to_hz
        # Fine inside the range and for half an octave around it; sparse further out, where only quietness is asked.
        top = min(22_000.0, 0.48 * sample_rate_hz)
        fine = mid_bands(per_octave=_PER_OCTAVE, from_hz=low / 1.4, to_hz=min(high * 1.4, top))
        coarse = mid_bands(per_octave=_PER_OCTAVE_OUTSIDE, from_hz=min(5.0, low / 2), to_hz=top)
        coarse = coarse[(coarse < low / 1.4) | (coarse > high * 1.4)]
        self.at_hz = np.unique(np.concatenate([coarse, fine, [low, high]]))
        self.inside = (self.at_hz > low * 1.0001) & (self.at_hz < high * 0.9999)
        octave, own = np.log2(self.at_hz), np.log2(plan.frequency_hz)
        self.wish = np.where(self.inside, np.interp(octave, own, plan.wished_db), 0.0)
        share = np.gradient(octave)
        weight = np.where(self.inside, np.interp(octave, own, plan.weight), 0.0) * share / share[self.inside].mean()
        self.root = np.sqrt(weight)
        mean_band = (self.at_hz >= MEAN_BAND_HZ[0]) & (self.at_hz <= MEAN_BAND_HZ[1])
        self._mean_share = np.where(mean_band, share, 0.0) / share[mean_band].sum()
        self._quiet = self._quiet_at(self.at_hz)
        self.low_bounds = np.array([np.log(low * 1.02), -max(limits.max_cut_db, 0.01), np.log(limits.min_q)])
        self.high_bounds = np.array([np.log(high * 0.98), max(limits.max_boost_db, 0.01), np.log(limits.max_q)])

    def _quiet_at(self, at_hz: NDArray) -> NDArray:
        """What bands may do outside the range; infinite inside."""
        off = np.maximum(np.log2(self.limits.from_hz / at_hz), np.log2(at_hz / self.limits.to_hz))
        return np.where(off < 1e-4, np.inf,
                        QUIET_OUTSIDE_DB + _SKIRT_DB * np.clip(1 - off / _SKIRT_OCTAVES, 0, 1) ** 2)

    def total(self, bands: Bands) -> NDArray[np.float64]:
        """Level of all bands together, shape (points,)."""
        return self._levels(bands).sum(axis=0) if len(bands) else np.zeros(self.at_hz.size)

    def cost(self, bands: Bands) -> float:
        """Sum of squares of all that is missed or broken."""
        return float(np.sum(self.residuals(bands, opposed=0.0) ** 2))

    def residuals(self, bands: Bands, *, opposed: float) -> NDArray[np.float64]:
        """Missed wish, sound outside the range, broken limits (boost absolute and relative to the mean; cut; level),
        and pairs of bands that oppose each other, weighted by `opposed`.

        The wish is missed at the level that the channel is brought to again afterwards, by its mean over 200-2000 Hz.
        """
        total = self.total(bands)
        mean = float(self._mean_share @ total)
        broken = np.maximum(total - self._allowed(total), 0) + np.maximum(-total - self.limits.max_cut_db, 0)
        leak = np.maximum(np.abs(total) - 0.6 * self._quiet, 0)
        sunk = max(-mean - 0.95 * LOWEST_MEAN_DB, 0.0)
        return np.concatenate([self.root * (total - mean - self.wish) + _BARRIER * leak, _BARRIER * broken,
                               [_SUNK * sunk], opposed * self._opposition(bands)])

    def polished(self, bands: Bands, *, opposed: float, finely: bool = False) -> Bands:
        """All bands fitted together, by rising frequency; while places are searched, coarsely is enough."""
        if not len(bands):
            return bands
        low, high = (np.tile(bound, len(bands)) for bound in (self.low_bounds, self.high_bounds))
        start = np.clip(bands.ravel(), low + 1e-6, high - 1e-6)
        found = scipy.optimize.least_squares(lambda x: self.residuals(x.reshape(-1, 3), opposed=opposed), start,
                              jac=lambda x: self._jacobian(x.reshape(-1, 3), opposed), bounds=(low, high),
                              x_scale="jac", max_nfev=_MOST_EVALUATIONS * (3 if finely else 1),
                              ftol=1e-6 if finely else 3e-4, xtol=1e-6 if finely else 1e-4)
        made = found.x.reshape(-1, 3)
        return made[np.argsort(made[:, 0], kind="stable")]

    def _levels(self, bands: Bands) -> NDArray:
        return peaking_levels_db(np.exp(bands[:, 0]), bands[:, 1], np.exp(bands[:, 2]), at_hz=self.at_hz,
                                 sample_rate_hz=self.rate)

    def _allowed(self, total: NDArray) -> float:
        return self._allowed_at(float(self._mean_share @ total))

    def _allowed_at(self, mean_db: float) -> float:
        """Largest sum of all bands: the limit, lowered by how far the mean of 200-2000 Hz sinks below what is free.

        A twentieth more is kept, since others may take the mean over other points.
        """
        return self.limits.max_boost_db + min(0.0, FREE_MEAN_DB + 1.05 * mean_db)

    def _opposition(self, bands: Bands) -> NDArray:
        """Of every pair: the root of what both gains have against each other, less with their distance."""
        first, second = np.triu_indices(len(bands), 1)
        near = np.maximum(1 - np.abs(bands[first, 0] - bands[second, 0]) / np.log(2) / _OPPOSED_WITHIN, 0)
        return np.sqrt(near * np.maximum(-bands[first, 1] * bands[second, 1], 0))

    def _jacobian(self, bands: Bands, opposed: float) -> NDArray:
        slopes = peaking_slopes_db(np.exp(bands[:, 0]), bands[:, 1], np.exp(bands[:, 2]), at_hz=self.at_hz,
                                   sample_rate_hz=self.rate)                          # (bands, 3, points)
        slopes = slopes.reshape(-1, self.at_hz.size)
        total = self.total(bands)
        over = total > self._allowed(total)
        mean, mean_slopes = float(self._mean_share @ total), slopes @ self._mean_share
        lowered = self._allowed_at(mean) < self.limits.max_boost_db
        over_slopes = slopes - 1.05 * mean_slopes[:, None] * lowered
        sunk_slopes = -_SUNK * mean_slopes * (-mean > 0.95 * LOWEST_MEAN_DB)
        broken = np.where(over, over_slopes, 0) - np.where(-total > self.limits.max_cut_db, slopes, 0)
        leaks = np.where(np.abs(total) > 0.6 * self._quiet, _BARRIER * np.sign(total), 0)
        missed = self.root * (slopes - mean_slopes[:, None]) + leaks * slopes
        return np.concatenate([missed.T, _BARRIER * broken.T, sunk_slopes[None, :],
                               opposed * self._opposition_slopes(bands)])

    @staticmethod
    def _opposition_slopes(bands: Bands) -> NDArray:
        """Of `_opposition`, shape (pairs, 3 bands)."""
        first, second = np.triu_indices(len(bands), 1)
        pair = np.arange(first.size)
        apart = (bands[first, 0] - bands[second, 0]) / np.log(2) / _OPPOSED_WITHIN
        near, against = 1 - np.abs(apart), -bands[first, 1] * bands[second, 1]
        active = (near > 0) & (against > 0)
        root_near, root_against = np.sqrt(np.maximum(near, _FLOOR)), np.sqrt(np.maximum(against, _FLOOR))
        slopes = np.zeros((first.size, len(bands), 3))
        for one, other, sign in ((first, second, 1.0), (second, first, -1.0)):
            slopes[pair, one, 1] = np.where(active, -bands[other, 1] * root_near / (2 * root_against), 0)
            slopes[pair, one, 0] = np.where(active, -sign * np.sign(apart) * root_against / (2 * root_near)
                                            / np.log(2) / _OPPOSED_WITHIN, 0)
        return slopes.reshape(first.size, 3 * len(bands))

    def rounded(self, bands: Bands) -> list[PeakingFilter]:
        """Bands in the steps that people type, without those that do next to nothing."""
        out = []
        for log_frequency, gain, log_q in bands:
            frequency = float(np.exp(log_frequency))
            frequency = round(frequency, 1) if frequency < 100 else float(round(frequency))
            if abs(gain) >= WORTH_DB:
                out.append(PeakingFilter(frequency_hz=frequency, gain_db=round(float(gain), 1),
                                         q=round(float(np.exp(log_q)), 2)))
        return out

    def repaired(self, filters: list[PeakingFilter]) -> list[PeakingFilter]:
        """Gains taken back by 0.1 dB at a time, the band that adds most where a limit is broken first."""
        at_hz = np.unique(np.concatenate([self.at_hz, mid_bands(per_octave=_PER_OCTAVE_CHECKED, from_hz=5.0,
                                                                to_hz=self.at_hz[-1])]))
        quiet = self._quiet_at(at_hz)
        for _ in range(2000):
            if not filters:
                break
            levels = peaking_levels_db([f.frequency_hz for f in filters], [f.gain_db for f in filters],
                                       [f.q for f in filters], at_hz=at_hz, sample_rate_hz=self.rate)
            total = levels.sum(axis=0)
            mean_of_bands = levels[:, np.searchsorted(at_hz, self.at_hz)] @ self._mean_share
            mean = float(mean_of_bands.sum())
            over = total - self._allowed_at(mean)
            under = -total - self.limits.max_cut_db
            leak = np.abs(total) - quiet
            if over.max() > 1e-3:
                share = levels[:, int(np.argmax(over))]
            elif under.max() > 1e-3:
                share = -levels[:, int(np.argmax(under))]
            elif mean < -LOWEST_MEAN_DB:
                share = -mean_of_bands
            elif leak.max() > 0:
                k = int(np.argmax(leak))
                share = levels[:, k] * np.sign(total[k])
            else:
                break
            worst = int(np.argmax(share))
            if share[worst] <= 1e-6:
                # Boost broken only because the mean is low: take back the strongest cut that lowers it.
                worst = int(np.argmin(mean_of_bands))
            f = filters[worst]
            gain = round(f.gain_db - (0.1 if f.gain_db > 0 else -0.1), 1)
            if abs(gain) < 0.05:
                filters = filters[:worst] + filters[worst + 1:]
            else:
                changed = PeakingFilter(frequency_hz=f.frequency_hz, gain_db=gain, q=f.q)
                filters = [*filters[:worst], changed, *filters[worst + 1:]]
        return filters
