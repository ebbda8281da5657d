"""A response over time: impulse, step, and energy in dB."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import power_db
from dolce.core.response import ImpulseResponse


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TimeCurve:
    """Something over time, counted from the arrival; both of shape (points,)."""

    time_s: NDArray[np.float64]
    value: NDArray[np.float64]


def impulse_near(response: ImpulseResponse, *, arrival_s: float, from_s: float, to_s: float) -> TimeCurve:
    """The response itself, 1 at its strongest."""
    time, sample = _part(response, response.sample, arrival_s, from_s, to_s)
    return TimeCurve(time_s=time, value=sample / max(np.abs(sample).max(), 1e-30))


def step_near(response: ImpulseResponse, *, arrival_s: float, from_s: float, to_s: float) -> TimeCurve:
    """What a sudden constant sound makes: the running sum of the response, 1 at its strongest."""
    time, sample = _part(response, np.cumsum(response.sample), arrival_s, from_s, to_s)
    return TimeCurve(time_s=time, value=sample / max(np.abs(sample).max(), 1e-30))


def energy_near(
    response: ImpulseResponse, *, arrival_s: float, from_s: float, to_s: float, points: int = 800
) -> TimeCurve:
    """Energy over time in dB, 0 at its strongest: the squared Hilbert envelope, the largest of each short block.

    References
    ----------
    R. C. Heyser, "Acoustical measurements by time delay spectrometry", JAES 15, 370-382 (1967), for the envelope.
    """
    envelope = np.abs(scipy.signal.hilbert(response.sample, scipy.fft.next_fast_len(response.sample.size)))
    time, envelope = _part(response, envelope[: response.sample.size], arrival_s, from_s, to_s)
    block = max(1, envelope.size // points)
    count = envelope.size // block
    highest = envelope[: count * block].reshape(count, block).max(axis=1)
    level = power_db(np.square(highest / max(highest.max(), 1e-30)))
    return TimeCurve(time_s=time[: count * block].reshape(count, block).mean(axis=1), value=np.maximum(level, -120))


def _part(
    response: ImpulseResponse, values: NDArray, arrival_s: float, from_s: float, to_s: float
) -> tuple[NDArray, NDArray]:
    time = response.time_s - arrival_s
    first, last = np.searchsorted(time, [from_s, to_s])
    last = max(last, first + 2)
    return time[first:last].copy(), values[first:last].copy()  # of their own: the whole is long
