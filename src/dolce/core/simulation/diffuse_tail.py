"""The late part of a room's sound: noise that dies away as Eyring has it."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.simulation.bands import weights_of_transform
from dolce.core.simulation.surfaces import RoomSurfaces


def diffuse_tail(
    surfaces: RoomSurfaces,
    *,
    power: NDArray,
    rise_s: tuple[float, float],
    samples: int,
    speed_m_s: float,
    sample_rate_hz: int,
    rng: np.random.Generator,
) -> NDArray[np.float64]:
    """Impulse response of what arrives after so many reflections that only its power is known.

    Parameters
    ----------
    power : ndarray, shape (bands,)
        What the source radiates in all against one that is as loud in every direction as on its axis.
    rise_s : (float, float)
        Over which it takes the place of single reflections.

    References
    ----------
    H. Kuttruff, "Room Acoustics", 6th ed., section 4.1 and 5.1: 4 pi c^3 t^2 / V images arrive in a second, each with
    (1 / c t)^2 of the power at 1 m, so 4 pi c / V exp(-13.8 t / T) per second, whatever their number.
    """
    time_s = np.arange(samples) / sample_rate_hz
    rise = np.sin(np.pi / 2 * np.clip((time_s - rise_s[0]) / (rise_s[1] - rise_s[0]), 0, 1))
    white = scipy.fft.rfft(rng.standard_normal(samples))
    weights = np.sqrt(weights_of_transform(samples, sample_rate_hz))
    bands = scipy.fft.irfft(white * weights, samples, axis=1)
    density = 4 * np.pi * speed_m_s / surfaces.volume_m3 / sample_rate_hz  # energy of a sample
    decay = np.exp(-6.9078 * time_s[None, :] / surfaces.reverberation_s[:, None])
    return rise * np.einsum("bt,bt->t", bands, np.sqrt(density * power)[:, None] * decay)
