"""Excess phase that all spots share: the only phase that one filter can undo for every spot."""

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import delay_response, raised_cosine, smoothed_power, vertex

LEAST_SPOTS = 3  # two spots can't tell what a room shares from what they have in common by chance
_AGREED = 0.85  # length of the mean of unit vectors; below, spots disagree (our own bound)
_PER_OCTAVE = 6  # smoothing of the mean vector, of its agreement and of the phase
_FADE_OCTAVES = 1.0  # the phase fades to nothing within so much of its upper end
_PADDED = 16  # zero-padding of the search for the delay


def shared_excess_phase(
    at_hz: NDArray, responses: NDArray, weights: ArrayLike | None = None
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Phase to undo, in radians, and how far the spots agree on it (0 to 1), each shape (points,).

    Parameters
    ----------
    at_hz : ndarray, shape (points,)
        Evenly spaced, above 0.
    responses : complex ndarray, shape (spots, points)
    weights : shape (spots,), optional
        Above 0. Equal weights where left out.

    Notes
    -----
    The mean over spots is taken of unit vectors, so that no angle wraps, and smoothed over 1/6 octave. Nothing is
    undone below three spots, nor where that mean is shorter than 0.85: the phase undone for one spot would ring before
    the sound at every other. The phase fades to 0 at the upper end.
    """
    if len(responses) < LEAST_SPOTS:
        return np.zeros(at_hz.size), np.zeros(at_hz.size)
    vectors = np.exp(1j * excess_phase(at_hz, responses))
    weight = None if weights is None else np.asarray(weights, dtype=float)
    mean = _smoothed(at_hz, np.average(vectors, axis=0, weights=weight))
    agreed = np.abs(mean)
    share = np.clip((agreed - _AGREED) / (1 - _AGREED) * 2, 0, 1)
    phase = _from_the_top(np.angle(mean))
    known = share > 0
    starts = np.flatnonzero(known & ~np.append(known[1:], False))  # upper end of each region where spots agree
    for top in starts:
        lower = top
        while lower > 0 and known[lower - 1]:
            lower -= 1
        phase[lower : top + 1] -= 2 * np.pi * np.round(phase[top] / (2 * np.pi))
    undone = _smoothed(at_hz, phase * share).real
    return undone * raised_cosine(np.log2(at_hz[-1] / at_hz) / _FADE_OCTAVES), agreed


def excess_phase(at_hz: NDArray, responses: NDArray) -> NDArray[np.float64]:
    """Phase beyond that of the minimum-phase system of the same level, shape (spots, points), without delay and
    polarity. Unwrapped downwards from the upper end, where it is near 0.

    Notes
    -----
    Measured phase less the Hilbert transform of the log level (A. V. Oppenheim and R. W. Schafer, "Discrete-Time Signal
    Processing"), less the delay and polarity at which the upper octave adds up best, weighted by level: a delay fitted
    to the whole band would take part of a low all-pass for flight time.
    """
    level = np.log(np.maximum(np.abs(responses), 1e-12))
    mirrored = np.concatenate([level, level[:, ::-1]], axis=1)
    minimum = -np.imag(scipy.signal.hilbert(mirrored, axis=1))[:, : at_hz.size]
    upper = at_hz >= at_hz[-1] / 2
    turned = np.exp(1j * (np.angle(responses) - minimum))
    weighed = np.abs(responses) * turned * upper
    delay_s = _delay_s(at_hz, weighed)
    straight = turned * delay_response(at_hz, -delay_s)
    constant = np.angle(np.sum(straight * np.abs(weighed), axis=1, keepdims=True))
    return _from_the_top(np.angle(straight * np.exp(-1j * np.pi * np.round(constant / np.pi))))


def _delay_s(at_hz: NDArray, spectra: NDArray) -> NDArray[np.float64]:
    """Delay at which each spectrum adds up to most, shape (spots,): the peak of its padded transform, interpolated."""
    step_hz = at_hz[1] - at_hz[0]
    size = scipy.fft.next_fast_len(_PADDED * at_hz.size)
    envelope = np.abs(scipy.fft.ifft(spectra, size, axis=1))
    top = np.argmax(envelope, axis=1)
    before, peak, after = (np.take_along_axis(envelope, ((top + k) % size)[:, None], axis=1)[:, 0] for k in (-1, 0, 1))
    place = top + vertex(before, peak, after)
    return np.where(place > size / 2, place - size, place) / (size * step_hz)


def _from_the_top(angles: NDArray) -> NDArray[np.float64]:
    """Angles along the last axis unwrapped from its end to its beginning."""
    return np.unwrap(angles[..., ::-1], axis=-1)[..., ::-1]


def _smoothed(at_hz: NDArray, values: NDArray) -> NDArray:
    """Means over 1/6 octave; complex values stay complex."""
    both = np.array([values.real, values.imag])
    real, imaginary = smoothed_power(at_hz, both, at_hz=at_hz, per_octave=_PER_OCTAVE)
    return real + 1j * imaginary


def excess_delay_s(at_hz: NDArray, responses: NDArray) -> NDArray[np.float64]:
    """Group delay beyond that of the minimum phase and of the mere distance, shape (spots, points)."""
    return -np.gradient(excess_phase(at_hz, responses), at_hz, axis=1) / (2 * np.pi)


def ringing_s(at_hz: NDArray, above_db: NDArray) -> float | None:
    """Decay time (60 dB) of a hill from its width between the points 3 dB under its top: 2.2 / B, as for a single
    resonance (H. Kuttruff, "Room Acoustics", on the half-width of room modes). None where it is wider than an octave.
    """
    top = int(np.argmax(above_db))
    low = high = top
    while low > 0 and above_db[low] > above_db[top] - 3:
        low -= 1
    while high < above_db.size - 1 and above_db[high] > above_db[top] - 3:
        high += 1
    width = float(at_hz[high] - at_hz[low])
    return 2.2 / width if 0 < width < at_hz[top] else None
