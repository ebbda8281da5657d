"""What all spots share of phase beyond that of the minimum: the only phase that a filter may undo for all of them."""

import numpy as np
import scipy
from numpy.typing import NDArray

_AGREED = 0.85            # length of the mean of unit vectors; below, spots disagree (our own bound)
_SMOOTH_OCTAVES = 1 / 6


def shared_excess_phase(at_hz: NDArray, responses: NDArray) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Phase to undo, in radians, and how far the spots agree on it, each shape (points,).

    Parameters
    ----------
    at_hz : evenly spaced from near 0
    responses : complex, shape (spots, points)

    Notes
    -----
    Where the unit vectors of the spots' excess phases don't add up to 0.85 of their number nothing is undone: what is
    undone there for one spot would ring before the sound at every other.
    """
    vectors = np.exp(1j * excess_phase(at_hz, responses))
    mean = vectors.mean(axis=0)
    agreed = np.abs(mean)
    share = np.clip((agreed - _AGREED) / (1 - _AGREED) * 2, 0, 1)
    octave = np.log2(np.maximum(at_hz, 1.0))
    phase = np.angle(mean) * share
    smooth = np.array([phase[np.abs(octave - here) <= _SMOOTH_OCTAVES / 2].mean() for here in octave])
    return smooth, agreed


def excess_phase(at_hz: NDArray, responses: NDArray) -> NDArray[np.float64]:
    """Phase beyond that of the minimum-phase system of the same level, shape (spots, points), without delay and
    polarity.

    Notes
    -----
    Measured phase less the Hilbert transform of the log level (A. V. Oppenheim and R. W. Schafer, "Discrete-Time Signal
    Processing"), less the delay that fits it best, weighted by level.
    """
    level = np.log(np.maximum(np.abs(responses), 1e-12))
    mirrored = np.concatenate([level, level[:, ::-1]], axis=1)
    minimum = -np.imag(scipy.signal.hilbert(mirrored, axis=1))[:, :at_hz.size]
    excess = np.unwrap(np.angle(responses) - minimum, axis=1)
    weight = np.abs(responses)
    slope = (np.sum(weight * at_hz * (excess - excess[:, :1]), axis=1) / np.sum(weight * at_hz**2, axis=1))[:, None]
    left = excess - slope * at_hz
    return left - np.round(np.average(left, axis=1, weights=weight) / np.pi)[:, None] * np.pi


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
