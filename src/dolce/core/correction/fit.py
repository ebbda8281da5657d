"""Parametric bands, all fitted together."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from dolce.core.correction.plan import CorrectionPlan, Limits
from dolce.core.filters import PeakingFilter, chain_level_db, peaking_levels_db
from dolce.core.levels import mid_bands

QUIET_OUTSIDE_DB = 0.3           # what the bands may do outside the range
MEAN_BAND_HZ = (200.0, 2000.0)   # the boost also counts relative to the correction's mean here
_WORTH_DB = 0.25                 # a band with less gain than this is dropped
_BARRIER = 12.0                  # weight of a broken limit against a missed wish


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Fit:
    """Bands in order of frequency, and the RMS of what they miss of the wish, in dB by weight."""

    filters: tuple[PeakingFilter, ...]
    missed_db: float


def fit_bands(plan: CorrectionPlan, *, limits: Limits, sample_rate_hz: float) -> Fit:
    """Peaking bands that come closest to a plan within its limits.

    Bands are placed one by one at the largest error, then all frequencies, gains and Qs are fitted together by least
    squares with bounds. Limits enter as steep penalties (sum of all bands, also relative to its mean over
    200-2000 Hz; nothing outside the range); what is still broken after rounding is repaired by shrinking gains, so
    the limits hold exactly.

    Rounding: frequency to 0.1 Hz below 100 Hz and to 1 Hz above, gain to 0.1 dB, Q to 0.01.

    References
    ----------
    G. Ramos and J. J. Lopez, "Filter design method for loudspeaker equalization based on IIR parametric filters",
    JAES 54, 1162-1178 (2006), for the start; the joint fit follows our trials on simulated rooms.
    """
    problem = _Problem(plan, limits, sample_rate_hz)
    bands = problem.polished(problem.placed(limits.bands))
    filters = problem.rounded(bands)
    filters = problem.repaired(filters)
    missed = problem.wish - chain_level_db(filters, at_hz=problem.at_hz, sample_rate_hz=sample_rate_hz)
    weight = problem.weight
    rms = float(np.sqrt(np.sum(weight * missed**2) / max(weight.sum(), 1e-9)))
    return Fit(filters=tuple(sorted(filters, key=lambda f: f.frequency_hz)), missed_db=rms)


class _Problem:
    """The grid, the wish and the limits of one fit."""

    def __init__(self, plan: CorrectionPlan, limits: Limits, sample_rate_hz: float) -> None:
        self.limits, self.rate = limits, sample_rate_hz
        low, high = limits.from_hz, limits.to_hz
        # Fine inside the range and for half an octave around it; sparse further out, where only quietness is asked.
        top = min(22_000.0, 0.48 * sample_rate_hz)
        fine = mid_bands(per_octave=36, from_hz=low / 1.4, to_hz=min(high * 1.4, top))
        coarse = mid_bands(per_octave=12, from_hz=min(5.0, low / 2), to_hz=top)
        coarse = coarse[(coarse < low / 1.4) | (coarse > high * 1.4)]
        self.at_hz = np.unique(np.concatenate([coarse, fine, [low, high]]))
        self.inside = (self.at_hz > low * 1.0001) & (self.at_hz < high * 0.9999)
        own = np.log(plan.frequency_hz)
        at = np.log(self.at_hz)
        self.wish = np.where(self.inside, np.interp(at, own, plan.wished_db), 0.0)
        self.weight = np.where(self.inside, np.interp(at, own, plan.weight), 0.0)
        octave_share = np.gradient(np.log2(self.at_hz))
        self.weight = self.weight * octave_share / octave_share[self.inside].mean()
        self.root = np.sqrt(self.weight)
        mean_band = (self.at_hz >= MEAN_BAND_HZ[0]) & (self.at_hz <= MEAN_BAND_HZ[1])
        self.mean_share = np.where(mean_band, octave_share, 0.0)
        self.mean_share /= self.mean_share.sum()
        self.low_bounds = np.array([np.log(low * 1.02), -max(limits.max_cut_db, 0.01), np.log(limits.min_q)])
        self.high_bounds = np.array([np.log(high * 0.98), max(limits.max_boost_db, 0.01), np.log(limits.max_q)])

    def levels(self, bands: NDArray) -> NDArray:
        """Level of each band, shape (bands, points); rows of `bands` are log frequency, gain, log Q."""
        return peaking_levels_db(np.exp(bands[:, 0]), bands[:, 1], np.exp(bands[:, 2]), at_hz=self.at_hz,
                                 sample_rate_hz=self.rate)

    def placed(self, count: int) -> NDArray:
        """Start: one band after the other at the largest weighted error, as wide as the error there."""
        bands = np.empty((0, 3))
        left = self.wish.copy()
        octave = np.log2(self.at_hz)
        for _ in range(count):
            k = int(np.argmax(np.abs(left) * self.root))
            if abs(left[k]) * self.root[k] < _WORTH_DB:
                break
            same = (np.sign(left) == np.sign(left[k])) & (np.abs(left) > abs(left[k]) / 2)
            low = high = k
            while low > 0 and same[low - 1]:
                low -= 1
            while high < left.size - 1 and same[high + 1]:
                high += 1
            width = max(octave[high] - octave[low], 0.08)
            q = np.sqrt(2**width) / (2**width - 1)
            band = np.clip([np.log(self.at_hz[k]), left[k], np.log(q)], self.low_bounds, self.high_bounds)
            bands = np.vstack([bands, band])
            left = self.wish - self.levels(bands).sum(axis=0)
        return bands

    def residuals(self, bands: NDArray) -> NDArray:
        """Missed wish, broken limits (boost absolute and relative to the mean; cut), sound outside the range."""
        return self._residuals_of(self.levels(bands).sum(axis=0))

    def _residuals_of(self, total: NDArray) -> NDArray:
        over = np.maximum(total - self._allowed(total), 0)
        under = np.maximum(-total - self.limits.max_cut_db, 0)
        leak = np.where(self.inside, 0.0, np.maximum(np.abs(total) - 0.6 * QUIET_OUTSIDE_DB, 0))
        return np.concatenate([self.root * (total - self.wish), _BARRIER * (over + under), _BARRIER * leak])

    def _allowed(self, total: NDArray) -> float:
        """Largest sum of all bands: the limit, lowered by how far the mean of 200-2000 Hz lies below nothing.

        A twentieth more is kept, since others may take the mean over other points.
        """
        return self.limits.max_boost_db + min(0.0, 1.05 * float(self.mean_share @ total))

    def polished(self, bands: NDArray) -> NDArray:
        """All bands fitted together."""
        if not len(bands):
            return bands
        low, high = (np.tile(b, len(bands)) for b in (self.low_bounds, self.high_bounds))
        start = np.clip(bands.ravel(), low + 1e-6, high - 1e-6)

        def function(x: NDArray) -> NDArray:
            return self.residuals(x.reshape(-1, 3))

        def jacobian(x: NDArray) -> NDArray:
            return self._jacobian(x.reshape(-1, 3))

        found = least_squares(function, start, jac=jacobian, bounds=(low, high), x_scale="jac", max_nfev=60,
                              ftol=1e-5, xtol=1e-5)
        return found.x.reshape(-1, 3)

    def _jacobian(self, bands: NDArray) -> NDArray:
        """Each band depends on its own three numbers alone, so three nudged evaluations of all bands are enough."""
        base = self.levels(bands)
        total = base.sum(axis=0)
        slopes = np.empty((len(bands), 3, self.at_hz.size))
        for k in range(3):
            nudged = bands.copy()
            nudged[:, k] += 1e-5
            slopes[:, k] = (self.levels(nudged) - base) / 1e-5
        slopes = slopes.reshape(-1, self.at_hz.size)
        over = total > self._allowed(total)
        pulls_mean = float(self.mean_share @ total) < 0
        over_slopes = slopes - 1.05 * (slopes @ self.mean_share)[:, None] * pulls_mean
        broken = np.where(over, over_slopes, 0) - np.where(-total > self.limits.max_cut_db, slopes, 0)
        leak = ~self.inside & (np.abs(total) > 0.6 * QUIET_OUTSIDE_DB)
        quiet = np.where(leak, np.sign(total) * slopes, 0)
        return np.concatenate([self.root * slopes, _BARRIER * broken, _BARRIER * quiet], axis=1).T

    def rounded(self, bands: NDArray) -> list[PeakingFilter]:
        """Bands in the steps that people type, without those that do next to nothing."""
        out = []
        for log_frequency, gain, log_q in bands:
            frequency = float(np.exp(log_frequency))
            frequency = round(frequency, 1) if frequency < 100 else float(round(frequency))
            if abs(gain) >= _WORTH_DB:
                out.append(PeakingFilter(frequency_hz=frequency, gain_db=round(float(gain), 1),
                                         q=round(float(np.exp(log_q)), 2)))
        return out

    def repaired(self, filters: list[PeakingFilter]) -> list[PeakingFilter]:
        """Gains taken back by 0.1 dB at a time, the band that adds most where a limit is broken first."""
        for _ in range(2000):
            if not filters:
                break
            levels = peaking_levels_db([f.frequency_hz for f in filters], [f.gain_db for f in filters],
                                       [f.q for f in filters], at_hz=self.at_hz, sample_rate_hz=self.rate)
            total = levels.sum(axis=0)
            over = total - self._allowed(total)
            under = -total - self.limits.max_cut_db
            leak = np.where(self.inside, -1.0, np.abs(total) - QUIET_OUTSIDE_DB)
            if over.max() > 1e-3:
                k = int(np.argmax(over))
                share = levels[:, k]
            elif under.max() > 1e-3:
                share = -levels[:, int(np.argmax(under))]
            elif leak.max() > 0:
                k = int(np.argmax(leak))
                share = levels[:, k] * np.sign(total[k])
            else:
                break
            worst = int(np.argmax(share))
            if share[worst] <= 1e-6:
                # Boost broken only because the mean is low: take back the strongest cut that lowers it.
                worst = int(np.argmin(levels @ self.mean_share))
            f = filters[worst]
            gain = round(f.gain_db - (0.1 if f.gain_db > 0 else -0.1), 1)
            if abs(gain) < 0.05:
                filters = filters[:worst] + filters[worst + 1:]
            else:
                changed = PeakingFilter(frequency_hz=f.frequency_hz, gain_db=gain, q=f.q)
                filters = [*filters[:worst], changed, *filters[worst + 1:]]
        return filters
