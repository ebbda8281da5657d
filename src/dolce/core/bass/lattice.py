"""Where filters of the common bass live: taps on a coarse lattice of time, their spectra, and the filters at any rate.

Taps stand 480 to the second and are joined by cubic B-splines: whatever taps are chosen, the filter is causal, of a
given length, smooth, and has little to say above 240 Hz, twice the highest hand-over.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delay_response
from dolce.core.response import ImpulseResponse

TAPS_PER_S = 480
_SIZE = 1296  # of a transform: a period of 2.7 s, longer than a room of this kind rings with a filter before it
PERIOD_S = _SIZE / TAPS_PER_S
TIME_S: NDArray[np.float64] = np.arange(_SIZE) / TAPS_PER_S
FREQUENCY_HZ: NDArray[np.float64] = np.arange(_SIZE // 2 + 1) / PERIOD_S
# A cubic B-spline is a box convolved three times with itself; four taps wide, so its middle comes two taps late.
_SPLINE = np.sinc(FREQUENCY_HZ / TAPS_PER_S) ** 4 * delay_response(FREQUENCY_HZ, 2 / TAPS_PER_S)
_BOTH_SIDES = np.full(FREQUENCY_HZ.size, 2.0)
_BOTH_SIDES[[0, -1]] = 1.0


def tap_count(length_s: float) -> int:
    """How many taps a filter of this length has; the spline of the last one ends with it."""
    return max(1, int(np.floor(length_s * TAPS_PER_S)) - 3)


def spectrum_of(response: ImpulseResponse) -> NDArray[np.complex128]:
    """A response at the frequencies of the lattice, phases from the moment the stimulus left, shape (frequencies,)."""
    size = round(PERIOD_S * response.sample_rate_hz)
    spectrum = scipy.fft.rfft(response.sample[:size], size)[: FREQUENCY_HZ.size]
    return spectrum * delay_response(FREQUENCY_HZ, response.start_s)


def spectra_of_taps(taps: NDArray[np.float64]) -> NDArray[np.complex128]:
    """What filters do, shape (..., frequencies), of taps of shape (..., taps)."""
    return scipy.fft.rfft(taps, _SIZE) * _SPLINE


def taps_slope(slope: NDArray[np.complex128], count: int) -> NDArray[np.float64]:
    """How a cost changes with taps, from how it changes with their spectra (real part with the real part and so on)."""
    return _SIZE / 2 * scipy.fft.irfft(np.conj(_SPLINE) * slope * _AT_ENDS, _SIZE)[..., :count]


_AT_ENDS = 2 / _BOTH_SIDES


def in_time(spectra: NDArray[np.complex128]) -> NDArray[np.float64]:
    """Sounds over `TIME_S`, of spectra; what rings on beyond the period comes in again at its beginning."""
    return scipy.fft.irfft(spectra, _SIZE)


def time_slope(slope: NDArray[np.float64]) -> NDArray[np.complex128]:
    """How a cost changes with spectra, from how it changes with sounds over `TIME_S`."""
    return _BOTH_SIDES / _SIZE * scipy.fft.rfft(slope, _SIZE)


def filter_at(taps: NDArray[np.float64], *, sample_rate_hz: int, length_s: float) -> NDArray[np.float64]:
    """The filter of taps as an impulse response at a sample rate, shape (samples,)."""
    at = np.arange(int(np.floor(length_s * sample_rate_hz))) * (TAPS_PER_S / sample_rate_hz)
    padded = np.pad(taps, 3)  # a spline is only told between its third and third last knot
    spline = scipy.interpolate.BSpline(np.arange(padded.size + 4, dtype=float) - 3, padded, 3, extrapolate=False)
    return np.nan_to_num(spline(at)) * (TAPS_PER_S / sample_rate_hz)
