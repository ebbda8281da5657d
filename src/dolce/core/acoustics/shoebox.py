"""Sound between two points of a rigid box, by mirror images of the source."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from dolce.core.geometry import Point, RoomSize

_OVERSAMPLING = 8          # images fall on a grid this much finer than a sample, then are filtered down
_SPLIT_HZ = 400.0          # below it walls reflect more than above


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomSound:
    """How the box reflects: pressure reflection factors of its surfaces, 0 to 1.

    Attributes
    ----------
    low_reflection, high_reflection : float
        Mean pressure reflection factor below and above 400 Hz.
    duration_s : float
        Length of the response.
    """

    low_reflection: float = 0.86
    high_reflection: float = 0.74
    duration_s: float = 0.5


def room_response(source: Point, receiver: Point, *, room: RoomSize, sound: RoomSound, speed_m_s: float,
                  sample_rate_hz: int) -> NDArray[np.float64]:
    """Impulse response from source to receiver; 1.0 is the direct sound at 1 m.

    Every mirror image within `sound.duration_s` is placed at its own time, to an eighth of a sample, with its own
    distance and number of reflections.

    Returns
    -------
    ndarray, shape (samples,)
        Sample 0 is the moment of emission.

    References
    ----------
    J. B. Allen and D. A. Berkley, "Image method for efficiently simulating small-room acoustics",
    J. Acoust. Soc. Am. 65, 943-950 (1979).
    """
    size = np.array([room.width_m, room.length_m, room.height_m])
    src, rec = source.as_array(), receiver.as_array()
    reach = speed_m_s * sound.duration_s
    squares, orders = [], []
    for axis in range(3):
        count = int(np.ceil(reach / (2 * size[axis]))) + 1
        n = np.arange(-count, count + 1)
        # Eq. (8): images at 2 n L + s and 2 n L - s; |2n| and |2n - 1| reflections on this pair of walls.
        offsets = np.concatenate([2 * n * size[axis] + src[axis], 2 * n * size[axis] - src[axis]]) - rec[axis]
        reflections = np.concatenate([np.abs(2 * n), np.abs(2 * n - 1)])
        near = np.abs(offsets) < reach
        squares.append(offsets[near] ** 2)
        orders.append(reflections[near])
    square = squares[0][:, None, None] + squares[1][None, :, None] + squares[2][None, None, :]
    order = orders[0][:, None, None] + orders[1][None, :, None] + orders[2][None, None, :]
    inside = square < reach**2
    distance, order = np.sqrt(square[inside]), order[inside]

    fine = sample_rate_hz * _OVERSAMPLING
    samples = round(sound.duration_s * sample_rate_hz)
    at = np.rint(distance / speed_m_s * fine).astype(np.int64)
    kept = at < samples * _OVERSAMPLING
    at, distance, order = at[kept], distance[kept], order[kept]
    # Counting into bins is done once per wall behaviour; both share the places of the images.
    spectra = []
    for reflection in (sound.low_reflection, sound.high_reflection):
        strength = np.power(reflection, np.arange(order.max() + 1))[order] / distance
        train = np.bincount(at, weights=strength, minlength=samples * _OVERSAMPLING)
        spectra.append(fft.rfft(train)[: samples // 2 + 1])
    frequency = fft.rfftfreq(samples, 1 / sample_rate_hz)
    low_part = 1 / (1 + (frequency / _SPLIT_HZ) ** 4)              # zero phase: it moves nothing in time
    spectrum = low_part * spectra[0] + (1 - low_part) * spectra[1]
    # Fade the very top, so that a band-limited impulse does not ring over the whole response.
    top = sample_rate_hz / 2
    spectrum = spectrum * np.clip((top - frequency) / (0.04 * top), 0, 1)
    return fft.irfft(spectrum, samples)
