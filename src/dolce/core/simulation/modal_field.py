"""Sound in a box at low frequencies as the sum of its modes, each ringing as its surfaces let it."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import Modes, modes_of_box
from dolce.core.simulation.surfaces import RoomSurfaces

# The sum is cut off smoothly between these multiples of its highest frequency.
_CUT = (2.0, 3.0)
_OUTSIDE_HZ = 7.0  # below it even pressure leaves through gaps and doors


def mode_decay(modes: Modes, surfaces: RoomSurfaces, *, speed_m_s: float) -> NDArray[np.float64]:
    """Decay constant of each mode in 1/s: its amplitude falls as exp(-decay t).

    A pair of surfaces counts in full for modes that move between them, by half for those that only pass along them.

    References
    ----------
    P. M. Morse and R. H. Bolt, "Sound waves in rooms", Rev. Mod. Phys. 16 (1944), sections on nearly hard walls: decay
    c / (8 V) sum of e S a, with e = 1 or 1/2; a as -ln(1 - a), so that oblique modes decay as Eyring has it.
    """
    per_wall = surfaces.on(modes.frequency_hz) * surfaces.areas_m2[:, None]  # (walls, modes)
    share = np.where(modes.orders.T > 0, 1.0, 0.5)  # (3, modes)
    return speed_m_s / (8 * surfaces.volume_m3) * np.sum(per_wall.reshape(3, 2, -1).sum(axis=1) * share, axis=0)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ModalField:
    """The modes of a room, ready to be asked for pairs of places.

    Attributes
    ----------
    modes : Modes
    frequency_hz : ndarray, shape (points,)
    resonance : ndarray of complex, shape (1 + modes, points)
        What each mode does when it is driven fully; row 0 is the even pressure.
    """

    modes: Modes
    frequency_hz: NDArray[np.float64]
    resonance: NDArray[np.complex64]

    def transfer(self, source_m: NDArray, receiver_m: NDArray) -> NDArray[np.complex128]:
        """Transfer function between two places, shape (points,); 1 is the direct sound at 1 m in the open."""
        pressure = self.modes.pressure_at(np.stack([source_m, receiver_m]))
        shares = 2.0 ** np.count_nonzero(self.modes.orders, axis=1)  # 1 / mean of psi^2
        drive = np.concatenate([[1.0], pressure[0] * pressure[1] * shares])
        return (drive.astype(np.float32) @ self.resonance).astype(np.complex128)


@lru_cache(maxsize=4)
def modal_field(surfaces: RoomSurfaces, *, up_to_hz: float, step_hz: float, speed_m_s: float) -> ModalField:
    """The field of a room at multiples of a step up to a frequency.

    References
    ----------
    H. Kuttruff, "Room Acoustics", 6th ed., eq. (3.20): sum of psi(s) psi(r) / (K (wn^2 - w^2 + 2 i d w)), here divided
    by the field of the same source in the open.
    """
    frequency = step_hz * np.arange(int(up_to_hz / step_hz) + 1)
    modes = modes_of_box(surfaces.size_m, up_to_hz=min(2000.0, _CUT[1] * up_to_hz), speed_m_s=speed_m_s)
    decay = np.concatenate([[np.pi * _OUTSIDE_HZ], mode_decay(modes, surfaces, speed_m_s=speed_m_s)])
    angular = 2 * np.pi * np.concatenate([[_OUTSIDE_HZ], modes.frequency_hz])
    cut = np.clip((angular / (2 * np.pi * up_to_hz) - _CUT[0]) / (_CUT[1] - _CUT[0]), 0, 1)
    drive = 2 * np.pi * frequency
    resonance = (np.cos(np.pi / 2 * cut) ** 2)[:, None] / (
        angular[:, None] ** 2 + decay[:, None] ** 2 - drive[None, :] ** 2 + 2j * decay[:, None] * drive[None, :]
    )
    scale = 4 * np.pi * speed_m_s**2 / surfaces.volume_m3
    return ModalField(
        modes=modes, frequency_hz=frequency.astype(float), resonance=(scale * resonance).astype(np.complex64)
    )
