"""Early reflections in a box whose surfaces absorb by frequency, from a speaker that beams."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.simulation.bands import weights_of_transform
from dolce.core.simulation.surfaces import RoomSurfaces

_OVERSAMPLING = 8  # images fall on a grid this much finer than a sample, then are filtered down
_BEFORE_S = 0.004  # a band-limited impulse also rings before its time; what is left by then goes unheard
_TOP_FADE = 0.04  # share of the range that is faded, so that impulses do not ring on and on

# Level of the sound toward directions of a given cosine to the speaker's axis, shape (bands, directions).
Beam = Callable[[NDArray[np.float64]], NDArray[np.float64]]


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


def early_response(
    images: Images,
    surfaces: RoomSurfaces,
    *,
    axis: NDArray,
    beam: Beam,
    fade_s: tuple[float, float],
    speed_m_s: float,
    sample_rate_hz: int,
) -> NDArray[np.float64]:
    """Impulse response of all images but the source itself; 1 is the direct sound at 1 m.

    Each image is placed at its own time, to an eighth of a sample, in each octave with its own strength; octaves add
    up without phase of their own. Images fade out over `fade_s`.

    Parameters
    ----------
    axis : ndarray, shape (3,)
        Unit vector along which the speaker looks.

    Returns
    -------
    ndarray, shape (samples,)
        Sample 0 is the moment of emission.

    References
    ----------
    Allen and Berkley (1979), with a reflection factor sqrt(1 - absorption) per surface and octave.
    """
    begin_s, end_s = fade_s
    time_s = images.distance_m[1:] / speed_m_s
    fading = np.cos(np.pi / 2 * np.clip((time_s - begin_s) / (end_s - begin_s), 0, 1)) / images.distance_m[1:]
    lost = np.exp(-0.5 * images.hits[1:] @ surfaces.exponents)  # (images, bands)
    strength = lost.T * fading * beam(images.leaving[1:] @ axis)

    before = int(np.ceil(_BEFORE_S * sample_rate_hz))
    samples = scipy.fft.next_fast_len(round(end_s * sample_rate_hz) + 2 * before, real=True)
    fine = samples * _OVERSAMPLING
    at = np.rint((time_s * sample_rate_hz + before) * _OVERSAMPLING).astype(np.int64)
    trains = np.stack([np.bincount(at, weights=row, minlength=fine)[:fine] for row in strength])
    lines = scipy.fft.rfft(trains, axis=1)[:, : samples // 2 + 1]
    spectrum = np.einsum("bf,bf->f", lines, weights_of_transform(samples, sample_rate_hz))
    top = sample_rate_hz / 2
    spectrum *= np.clip((top - scipy.fft.rfftfreq(samples, 1 / sample_rate_hz)) / (_TOP_FADE * top), 0, 1)
    return scipy.fft.irfft(spectrum, samples)[before:]
