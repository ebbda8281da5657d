"""Sound of point sources in a box at low frequencies, as the sum of its modes."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics.modes import modes_of_box

_HIGHEST_MODE_FACTOR = 4.0  # modes so far above the highest frequency still stiffen the sum a little


def modal_transfer(
    sources_m: NDArray,
    receivers_m: NDArray,
    *,
    size_m: tuple[float, float, float],
    frequency_hz: NDArray,
    reverberation_s: float,
    speed_m_s: float,
) -> NDArray[np.complex128]:
    """Transfer function from each source to each receiver; 1 is the direct sound at 1 m in the open.

    Every mode decays with the same reverberation time.

    Parameters
    ----------
    sources_m, receivers_m : ndarray, shapes (sources, 3) and (receivers, 3)
        In metres from a corner of the box.
    frequency_hz : ndarray, shape (points,)
    reverberation_s : float
        Above 0.

    Returns
    -------
    ndarray of complex, shape (sources, receivers, points)

    References
    ----------
    H. Kuttruff, "Room Acoustics", 6th ed., eq. (3.20): p = i w rho c^2 Q / V sum psi(s) psi(r) / (K (wn^2 - w^2
    + 2 i d w)), d = 3 ln(10) / T; here divided by the field of the same source in the open, i w rho Q / (4 pi).
    """
    frequency = np.asarray(frequency_hz, dtype=float)
    modes = modes_of_box(
        size_m, up_to_hz=min(2000.0, _HIGHEST_MODE_FACTOR * float(frequency.max())), speed_m_s=speed_m_s
    )
    decay = 3 * np.log(10) / reverberation_s
    angular = np.concatenate([[0.0], 2 * np.pi * modes.frequency_hz])  # the zeroth mode is the even pressure
    drive = 2 * np.pi * frequency
    shares = np.concatenate([[1.0], 2.0 ** np.count_nonzero(modes.orders, axis=1)])  # 1 / mean of psi^2
    ones = np.ones((1, 1))
    at_source = np.hstack([ones.repeat(len(sources_m), 0), modes.pressure_at(sources_m)]) * shares
    at_receiver = np.hstack([ones.repeat(len(receivers_m), 0), modes.pressure_at(receivers_m)])
    resonance = 1 / (angular[:, None] ** 2 - drive[None, :] ** 2 + 2j * decay * drive[None, :])
    scale = 4 * np.pi * speed_m_s**2 / np.prod(size_m)
    return scale * np.stack([(at_source * listener) @ resonance for listener in at_receiver], axis=1)
