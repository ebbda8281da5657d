"""Resonances of a rigid box and what sources and listeners have to do with them."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked

KINDS = ("axial", "tangential", "oblique")
_FLOOR_DB = -60.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Modes:
    """Modes of a box, by rising frequency.

    Attributes
    ----------
    frequency_hz : ndarray, shape (modes,)
    orders : ndarray of int, shape (modes, 3)
        Half waves along x, y and z.
    size_m : (float, float, float)
    """

    frequency_hz: NDArray[np.float64]
    orders: NDArray[np.int64]
    size_m: tuple[float, float, float]

    @property
    def kind(self) -> list[str]:
        """ "axial", "tangential" or "oblique": moving along one, two or three axes."""
        return [KINDS[count - 1] for count in np.count_nonzero(self.orders, axis=1)]

    def single(self, number: int) -> "Modes":
        """One mode alone, counted from 0."""
        return Modes(frequency_hz=self.frequency_hz[[number]], orders=self.orders[[number]], size_m=self.size_m)

    def pressure_at(self, places_m: NDArray) -> NDArray[np.float64]:
        """Pressure of every mode at places of shape (places, 3), 1 at its loudest; shape (places, modes)."""
        turns = np.pi * np.asarray(places_m)[:, None, :] / np.array(self.size_m) * self.orders[None, :, :]
        return np.prod(np.cos(turns), axis=2)

    def drive_db(self, sources_m: NDArray, receivers_m: NDArray) -> NDArray[np.float64]:
        """How strongly a source makes each mode heard at a receiver, shape (sources, receivers, modes).

        0 dB is the strongest possible, both in a corner; never less than -60 dB.
        """
        product = np.abs(self.pressure_at(sources_m)[:, None, :] * self.pressure_at(receivers_m)[None, :, :])
        return 20 * np.log10(np.maximum(product, 10 ** (_FLOOR_DB / 20)))


def modes_of_box(size_m: tuple[float, float, float], *, up_to_hz: float, speed_m_s: float) -> Modes:
    """All modes of a rigid box above 0 Hz and up to a frequency.

    Raises
    ------
    InvalidValue
        If a size is not 0.1 to 100 m, or the frequency not 1 to 2000 Hz.

    References
    ----------
    H. Kuttruff, "Room Acoustics", 6th ed., eq. (3.15): f = c/2 sqrt((nx/Lx)^2 + (ny/Ly)^2 + (nz/Lz)^2).
    """
    for value in size_m:
        checked.within(value, low=0.1, high=100, where="size of the box", unit="m")
    checked.within(up_to_hz, low=1, high=2000, where="highest mode", unit="Hz")
    squares = [
        (speed_m_s / (2 * length) * np.arange(int(2 * length * up_to_hz / speed_m_s) + 1)) ** 2 for length in size_m
    ]
    sums = squares[0][:, None, None] + squares[1][None, :, None] + squares[2][None, None, :]
    orders = np.argwhere(sums <= up_to_hz**2)[1:]  # without (0, 0, 0)
    frequency = np.sqrt(sums[tuple(orders.T)])
    by_rise = np.argsort(frequency, kind="stable")
    return Modes(
        frequency_hz=frequency[by_rise],
        orders=orders[by_rise],
        size_m=(float(size_m[0]), float(size_m[1]), float(size_m[2])),
    )


def mode_count_estimate(size_m: tuple[float, float, float], *, up_to_hz: float, speed_m_s: float) -> float:
    """About how many modes there are, with the terms for volume, surface and edges.

    References
    ----------
    H. Kuttruff, "Room Acoustics", 6th ed., eq. (3.19), after H. Weyl (1912) and D.-Y. Maa (1939).
    """
    x, y, z = size_m
    volume, surface, edges = x * y * z, 2 * (x * y + y * z + z * x), 4 * (x + y + z)
    k = up_to_hz / speed_m_s
    return 4 * np.pi / 3 * volume * k**3 + np.pi / 4 * surface * k**2 + edges / 8 * k
