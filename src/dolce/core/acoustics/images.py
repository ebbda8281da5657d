"""Mirror images of a source in the walls of a box, and what reaches a listener with each wall and without it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

WALLS = ("left wall", "right wall", "front wall", "back wall", "floor", "ceiling")  # at x, y, z of 0 and of its size
_FADES_FROM = 0.6  # of the furthest image: from there on images fade, so that no edge rings


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Images:
    """Mirror images of a source, the nearest first; the first one is the source itself.

    Attributes
    ----------
    distance_m : ndarray, shape (images,)
        From the receiver.
    hits : ndarray of int, shape (images, 6)
        How often the sound touches each of WALLS on its way.
    leaving : ndarray, shape (images, 3)
        Unit vector along which it leaves the source.
    """

    distance_m: NDArray[np.float64]
    hits: NDArray[np.int64]
    leaving: NDArray[np.float64]


def images_of(source_m: NDArray, receiver_m: NDArray, *, size_m: tuple[float, float, float], within_m: float) -> Images:
    """Every image no further away from the receiver than that.

    References
    ----------
    J. B. Allen and D. A. Berkley, "Image method for efficiently simulating small-room acoustics", J. Acoust. Soc. Am.
    65, 943-950 (1979), eq. (8) to (10).
    """
    offsets, mirrored, low_hits, high_hits = [], [], [], []
    for length, source, receiver in zip(size_m, source_m, receiver_m, strict=True):
        count = int(np.ceil(within_m / (2 * length))) + 1
        n = np.arange(-count, count + 1)
        offset = np.concatenate([2 * n * length + source, 2 * n * length - source]) - receiver
        near = np.abs(offset) <= within_m
        offsets.append(offset[near])
        mirrored.append(np.repeat([1, -1], n.size)[near])
        low_hits.append(np.concatenate([np.abs(n), np.abs(n - 1)])[near])  # the wall at 0
        high_hits.append(np.concatenate([np.abs(n), np.abs(n)])[near])  # the wall at its length
    x, y, z = np.ix_(*(o**2 for o in offsets))
    square = x + y + z
    at = np.nonzero(square <= within_m**2)
    distance = np.sqrt(square[at])
    order = np.argsort(distance, kind="stable")
    index = [axis[order] for axis in at]
    hits = np.stack([counts[axis][index[axis]] for axis in range(3) for counts in (low_hits, high_hits)], axis=1)
    # A mirrored path left the source mirrored: what is seen coming from the image, inverted axis by axis.
    leaving = np.stack([-offsets[axis][index[axis]] * mirrored[axis][index[axis]] for axis in range(3)], axis=1)
    distance = np.maximum(distance[order], 1e-3)
    return Images(distance_m=distance, hits=hits, leaving=leaving / distance[:, None])


def image_field(
    source_m: NDArray,
    receivers_m: NDArray,
    *,
    size_m: tuple[float, float, float],
    exponents: NDArray[np.float64],
    frequency_hz: NDArray[np.float64],
    within_m: float,
    speed_m_s: float,
) -> NDArray[np.complex128]:
    """What a source makes of itself at each receiver: with all walls, without each of WALLS in turn, with each alone.

    Without a wall, nothing that touches it on its way arrives; what else there is stays. With one alone, the direct
    sound and its reflection.

    Parameters
    ----------
    source_m, receivers_m : ndarray, shapes (3,) and (receivers, 3)
        From the corner of the box.
    exponents : ndarray, shape (6, points)
        -ln(1 - absorption) of each wall: what a reflection takes of the energy.
    within_m : float
        Images further away than that are left out.

    Returns
    -------
    ndarray of complex, shape (13, receivers, points)
        1 is the direct sound at 1 m in the open.

    References
    ----------
    Allen and Berkley (1979), with a reflection factor sqrt(1 - absorption) per wall.
    """
    # In single precision, of which processors compute many at once: levels are off by less than 0.001 dB.
    wave = (2 * np.pi * frequency_hz / speed_m_s).astype(np.float32)
    lost = (-0.5 * exponents).astype(np.float32)
    found = np.empty((1 + 2 * len(WALLS), len(receivers_m), frequency_hz.size), dtype=np.complex128)
    for number, receiver in enumerate(receivers_m):
        images = images_of(source_m, receiver, size_m=size_m, within_m=within_m)
        far = np.clip((images.distance_m / within_m - _FADES_FROM) / (1 - _FADES_FROM), 0, 1)
        strength = (np.cos(np.pi / 2 * far) / images.distance_m).astype(np.float32)
        hits, turned = images.hits.astype(np.float32), np.outer(images.distance_m.astype(np.float32), wave)
        amplitude = np.exp(hits @ lost) * strength[:, None]
        every, without = np.ones((1, far.size), dtype=bool), (images.hits == 0).T
        alone = images.hits.sum(axis=1) == images.hits.T
        counted = np.vstack([every, without, alone]).astype(np.float32)
        found[:, number] = counted @ (amplitude * np.cos(turned)) - 1j * (counted @ (amplitude * np.sin(turned)))
    return found
