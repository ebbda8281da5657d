"""Means over a fraction of an octave."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp.bands import band_edges
from dolce.core.dsp.decibels import power_db


def smoothed_power(frequency_hz: NDArray, power: NDArray, *, at_hz: NDArray, per_octave: float | NDArray) -> NDArray:
    """Mean power, or another quantity per Hz, in a band of 1/`per_octave` octave around each frequency.

    It is integrated over frequency between the band's edges (straight lines between the points) and divided
    by the band's width. Near the ends the band is cut off on both sides alike, so a slope does not shift.

    Parameters
    ----------
    frequency_hz : ndarray, shape (points,)
        Rising. Evenly spaced or not.
    power : ndarray, shape (..., points)
    at_hz : ndarray, shape (wanted,)
        Inside the range of `frequency_hz`.
    per_octave : float, or ndarray of shape (wanted,)

    Returns
    -------
    ndarray, shape (..., wanted)

    References
    ----------
    Band edges of IEC 61260-1:2014.
    """
    return _mean_between(frequency_hz, power, *_edges(frequency_hz, at_hz, per_octave))


def octave_mean(
    frequency_hz: NDArray, values: NDArray, *, at_hz: NDArray, per_octave: float | NDArray
) -> NDArray[np.float64]:
    """The same over the logarithm of frequency, where a slope in dB per octave stays what it is.

    For curves in dB; parameters and shape as of `smoothed_power`.
    """
    low, high = _edges(frequency_hz, at_hz, per_octave)
    return _mean_between(np.log(frequency_hz), values, np.log(low), np.log(high))


def smoothed_db(
    frequency_hz: NDArray, level_db: NDArray, *, at_hz: NDArray, per_octave: float | NDArray
) -> NDArray[np.float64]:
    """Levels in dB smoothed in power; parameters and shape as of `smoothed_power`."""
    power = smoothed_power(frequency_hz, 10 ** (np.asarray(level_db) / 10), at_hz=at_hz, per_octave=per_octave)
    return power_db(np.maximum(power, 0))


def _edges(frequency_hz: NDArray, at_hz: NDArray, per_octave: float | NDArray) -> tuple[NDArray, NDArray]:
    """Of the bands, cut off on both sides alike where the points end."""
    _, high = band_edges(at_hz, per_octave=per_octave)
    room = np.minimum(at_hz / max(frequency_hz[0], 1e-9), frequency_hz[-1] / at_hz)
    ratio = np.minimum(high / at_hz, np.maximum(room, 1 + 1e-6))
    return at_hz / ratio, at_hz * ratio


def _mean_between(x: NDArray, values: NDArray, low: NDArray, high: NDArray) -> NDArray[np.float64]:
    steps = np.diff(x) * (values[..., 1:] + values[..., :-1]) / 2
    integral = np.concatenate([np.zeros((*values.shape[:-1], 1)), np.cumsum(steps, axis=-1)], axis=-1)
    return (_integral_at(high, x, values, integral) - _integral_at(low, x, values, integral)) / (high - low)


def _integral_at(at: NDArray, frequency: NDArray, power: NDArray, integral: NDArray) -> NDArray:
    """Integral from the first point to `at`, with the power taken as straight between the points."""
    k = np.clip(np.searchsorted(frequency, at) - 1, 0, frequency.size - 2)
    part = at - frequency[k]
    slope = (power[..., k + 1] - power[..., k]) / (frequency[k + 1] - frequency[k])
    return integral[..., k] + part * (power[..., k] + slope * part / 2)
