"""Reverberation time from absorption, and the frequency above which modes overlap."""

import numpy as np
from numpy.typing import NDArray


def sabine_s(volume_m3: float, areas_m2: NDArray, absorption: NDArray, *, speed_m_s: float) -> NDArray[np.float64]:
    """Reverberation time by Sabine, in s: 24 ln(10) V / (c A).

    Parameters
    ----------
    areas_m2 : ndarray, shape (surfaces,)
    absorption : ndarray, shape (surfaces, bands)
        0 to 1.

    Returns
    -------
    ndarray, shape (bands,)

    References
    ----------
    W. C. Sabine, "Collected Papers on Acoustics", 1922; H. Kuttruff, "Room Acoustics", 6th ed., eq. (5.9).
    """
    return 24 * np.log(10) * volume_m3 / (speed_m_s * np.asarray(areas_m2) @ np.asarray(absorption))


def eyring_s(volume_m3: float, areas_m2: NDArray, absorption: NDArray, *, speed_m_s: float) -> NDArray[np.float64]:
    """Reverberation time by Eyring, in s: 24 ln(10) V / (-c S ln(1 - mean absorption)); shapes as `sabine_s`.

    References
    ----------
    C. F. Eyring, "Reverberation time in 'dead' rooms", J. Acoust. Soc. Am. 1, 217-241 (1930).
    """
    total = np.sum(areas_m2)
    mean = np.asarray(areas_m2) @ np.asarray(absorption) / total
    return 24 * np.log(10) * volume_m3 / (-speed_m_s * total * np.log1p(-np.minimum(mean, 0.999)))


def schroeder_hz(reverberation_s: float, volume_m3: float) -> float:
    """Frequency above which modes overlap and statistics take over: 2000 sqrt(T / V).

    References
    ----------
    M. R. Schroeder, "Die statistischen Parameter der Frequenzkurven von großen Räumen", Acustica 4 (1954), with the
    overlap of three of M. R. Schroeder and H. Kuttruff, J. Acoust. Soc. Am. 34 (1962).
    """
    return 2000 * float(np.sqrt(reverberation_s / volume_m3))
