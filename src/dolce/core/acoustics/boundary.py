"""What walls near a source do: cancellations at a listener, and gain at low frequencies."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Cancellation:
    """Direct sound against one reflection; all arrays of one shape.

    Attributes
    ----------
    frequency_hz : ndarray
        Where the reflection comes half a period late; infinite where it comes with the direct sound, or not at all.
    depth_db : ndarray
        Level there against the direct sound alone, at a wall that reflects everything; negative. The deepest it gets.
    """

    frequency_hz: NDArray[np.float64]
    depth_db: NDArray[np.float64]


def cancellation(direct_m: NDArray, reflected_m: NDArray, *, speed_m_s: float) -> Cancellation:
    """First cancellation of a direct sound by its reflection.

    Parameters
    ----------
    direct_m, reflected_m : ndarray, of one shape
        Lengths of the two paths; reflected at least direct, infinite where nothing is reflected.

    References
    ----------
    Half a wave late cancels: f = c / (2 (reflected - direct)); spherical waves leave 1 - direct / reflected.
    """
    direct, reflected = np.asarray(direct_m, dtype=float), np.asarray(reflected_m, dtype=float)
    with np.errstate(divide="ignore"):
        frequency = np.where(np.isfinite(reflected), speed_m_s / (2 * (reflected - direct)), np.inf)
        depth = 20 * np.log10(np.maximum(1 - direct / reflected, 1e-3))
    return Cancellation(frequency_hz=frequency, depth_db=depth)


def boundary_gain_db(distances_m: NDArray, *, frequency_hz: NDArray, speed_m_s: float) -> NDArray[np.float64]:
    """Level that rigid walls near a source add, against the same source in the open, averaged over directions.

    The walls stand at right angles to each other, at most one per axis. At low frequencies each adds 6 dB: 6 at one
    wall, 12 in an edge, 18 in a corner; at high ones each adds 3 dB.

    Parameters
    ----------
    distances_m : ndarray, shape (..., walls), 1 to 3 walls
    frequency_hz : ndarray, shape (points,)

    Returns
    -------
    ndarray, shape (..., points)

    References
    ----------
    R. V. Waterhouse, "Output of a sound source in a reverberation chamber and other reflecting environments",
    J. Acoust. Soc. Am. 30 (1958); R. F. Allison, "The influence of room boundaries on loudspeaker power output",
    J. Audio Eng. Soc. 22 (1974).
    """
    distances = np.asarray(distances_m, dtype=float)
    walls = distances.shape[-1]
    k = 2 * np.pi * np.asarray(frequency_hz, dtype=float) / speed_m_s
    power = np.zeros((*distances.shape[:-1], k.size))
    for images in range(2**walls):  # image 0 is the source itself
        mirrored = np.array([(images >> axis) & 1 for axis in range(walls)])
        apart = 2 * np.sqrt((distances**2 * mirrored).sum(axis=-1))
        power += np.sinc(apart[..., None] * k / np.pi)  # j0(k r), with numpy's sinc
    return 10 * np.log10(np.maximum(power, 1e-6)) + 10 * np.log10(2**walls)
