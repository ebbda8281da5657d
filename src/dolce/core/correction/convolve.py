"""The curve of a convolution: the same limits and verdicts as bands, as fine as the evidence."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.fit_problem import FREE_MEAN_DB, LOWEST_MEAN_DB
from dolce.core.correction.limits import Limits
from dolce.core.correction.plan import CorrectionPlan
from dolce.core.correction.target import MEAN_BAND_HZ
from dolce.core.dsp import in_band, octave_mean

_FINE, _BROAD = 48.0, 3.0  # parts of an octave: fine where modes are, broad where only the trend holds
_FINE_TO_HZ, _BROAD_FROM_HZ = 300.0, 2000.0
_EDGE_OCTAVES = 1 / 6  # the correction begins and ends within so much
_RIPPLE_DB = 0.01  # what a finite impulse response adds to its curve in between
_ROUNDS = 40


def convolution_curve(plan: CorrectionPlan, limits: Limits, desired_db: NDArray | None = None) -> NDArray[np.float64]:
    """Level in dB of the convolution for a plan, on its frequencies, shape (points,).

    Parameters
    ----------
    desired_db : ndarray, shape (points,), optional
        Another desired correction than the plan's, as without one spot.

    Notes
    -----
    The desired correction, smoothed over 1/48 octave to 300 Hz and ever broader to a third of an octave from 2 kHz,
    since what is narrow up there belongs to one spot. Boost at most as the limit says, also against the mean over
    200-2000 Hz but for half a dB; that mean sinks by 0.93 dB at most. Where the whole of that band is corrected,
    everything is half a dB lower: the level is matched again, and dips get half a dB more. Compare O. Kirkeby and P.
    A. Nelson, "Digital filter design for inversion problems in sound reproduction", JAES 47, 583-595 (1999), whose
    regularisation by frequency is here the limits and verdicts.
    """
    at_hz = plan.frequency_hz
    inside = in_band(at_hz, (limits.from_hz, limits.to_hz))
    middle = in_band(at_hz, MEAN_BAND_HZ)
    desired = smoothed(at_hz, plan.desired_db if desired_db is None else desired_db)
    edge = np.clip(1 + np.log2(at_hz / limits.from_hz) / _EDGE_OCTAVES, 0, 1) * np.clip(
        1 - np.log2(at_hz / limits.to_hz) / _EDGE_OCTAVES, 0, 1
    )
    fade = np.where(inside, 1.0, edge)
    desired = _held(desired, inside) * fade
    if not middle.any():
        return np.clip(desired, -limits.max_cut_db, limits.max_boost_db)
    whole = limits.from_hz <= MEAN_BAND_HZ[0] and limits.to_hz >= MEAN_BAND_HZ[1]
    lower, mean = 0.0, 0.0
    found = desired
    for _ in range(_ROUNDS):
        most = limits.max_boost_db - _RIPPLE_DB + min(0.0, FREE_MEAN_DB + mean)
        found = np.clip(desired - lower * fade, -limits.max_cut_db, max(most, 0.0))
        mean = float(found[middle].mean())
        if whole and limits.max_boost_db > 0:
            lower += mean + FREE_MEAN_DB
    return _not_sunk(found, middle, -min(LOWEST_MEAN_DB, FREE_MEAN_DB + limits.max_boost_db))


def smoothed(at_hz: NDArray, level_db: NDArray) -> NDArray[np.float64]:
    """Means over as much of an octave as the evidence allows, shape as given."""
    x = np.clip(np.log(at_hz / _FINE_TO_HZ) / np.log(_BROAD_FROM_HZ / _FINE_TO_HZ), 0, 1)
    return octave_mean(at_hz, level_db, at_hz=at_hz, per_octave=_FINE ** (1 - x) * _BROAD**x)


def _held(desired: NDArray, inside: NDArray) -> NDArray:
    """Outside, as at the ends of the range, so that it can fade from there."""
    k = np.flatnonzero(inside)
    return (
        desired
        if not k.size
        else np.concatenate(
            [np.full(k[0], desired[k[0]]), desired[k[0] : k[-1] + 1], np.full(desired.size - k[-1] - 1, desired[k[-1]])]
        )
    )


def _not_sunk(found: NDArray, middle: NDArray, lowest_db: float) -> NDArray:
    """With cuts taken back where together they would lower the level of 200-2000 Hz too far."""
    cuts = np.where(middle, np.minimum(found, 0), 0.0)
    mean, of_cuts = float(found[middle].mean()), float(cuts[middle].mean())
    if mean >= lowest_db or of_cuts >= 0:
        return found
    return found - cuts * min(1.0, (lowest_db - mean) / -of_cuts)
