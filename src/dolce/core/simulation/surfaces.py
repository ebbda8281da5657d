"""What the surfaces of a simulated room swallow, by octave, and whether a simulation of such a room can be trusted."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import WALLS, eyring_s
from dolce.core.dsp import in_band
from dolce.core.geometry import RoomSize
from dolce.errors import InvalidValue

BANDS_HZ = np.array([31.5, 63, 125, 250, 500, 1000, 2000, 4000, 8000, 16_000])
# Outside these the model breaks down: nothing is left to reflect, or it rings for longer than a take lasts.
SHORTEST_S, LONGEST_S = 0.06, 2.5
_AUDIBLE_HZ = (60, 5000)  # bands that decide it


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomSurfaces:
    """A box and what its surfaces absorb.

    Attributes
    ----------
    size_m : (float, float, float)
        Along x, y and z.
    absorption : tuple of 6 tuples of 10 float
        Of energy, from 0 to 0.99: for each of WALLS at each of BANDS_HZ.

    Raises
    ------
    InvalidValue
        If a room of these surfaces would be so dead or so live that the simulation no longer holds.
    """

    size_m: tuple[float, float, float]
    absorption: tuple[tuple[float, ...], ...]

    def __post_init__(self) -> None:
        table = np.array(self.absorption)
        if table.shape != (len(WALLS), BANDS_HZ.size) or not np.all((table >= 0) & (table <= 0.99)):
            raise InvalidValue("an absorption from 0 to 0.99 is needed for each surface and octave.", where="surfaces")
        audible = in_band(BANDS_HZ, _AUDIBLE_HZ)
        times, bands = self.reverberation_s[audible], BANDS_HZ[audible]
        if times.max() > LONGEST_S:
            raise InvalidValue(
                f"it would ring for {times.max():.1f} s at {bands[np.argmax(times)]:.0f} Hz, and the "
                f"simulation holds up to {LONGEST_S:g} s.",
                where="simulated room",
                remedy="Give it surfaces that absorb more, or a shorter reverberation time, on the Room page.",
            )
        if times.min() < SHORTEST_S:
            raise InvalidValue(
                f"it would ring for {1000 * times.min():.0f} ms at {bands[np.argmin(times)]:.0f} Hz, "
                f"and the simulation needs {1000 * SHORTEST_S:.0f} ms at least.",
                where="simulated room",
                remedy="Give it surfaces that absorb less, or a longer reverberation time, on the Room page.",
            )

    @property
    def areas_m2(self) -> NDArray[np.float64]:
        """Of each of WALLS."""
        x, y, z = self.size_m
        return np.array([y * z, y * z, x * z, x * z, x * y, x * y])

    @property
    def volume_m3(self) -> float:
        return float(np.prod(self.size_m))

    @property
    def exponents(self) -> NDArray[np.float64]:
        """-ln(1 - absorption), shape (walls, bands): what each reflection takes of the energy, as Eyring counts it."""
        return -np.log1p(-np.array(self.absorption))

    @property
    def reverberation_s(self) -> NDArray[np.float64]:
        """By Eyring, shape (bands,), at 343 m/s."""
        return eyring_s(self.volume_m3, self.areas_m2, np.array(self.absorption), speed_m_s=343.0)

    def on(self, frequency_hz: NDArray) -> NDArray[np.float64]:
        """Exponents between the octaves, on a logarithmic frequency scale; shape (walls, points)."""
        at = np.log(np.maximum(frequency_hz, 1.0))
        return np.array([np.interp(at, np.log(BANDS_HZ), row) for row in self.exponents])


def plain_surfaces(room: RoomSize, *, reverberation_s: float) -> RoomSurfaces:
    """A furnished box with a carpet that rings for about so long at low frequencies.

    Raises
    ------
    InvalidValue
        As `RoomSurfaces`.
    """
    # A lined wall, a thin carpet: M. Vorländer, "Auralization", Springer 2008, appendix; below 125 Hz our assumption.
    wall = np.array([0.10, 0.13, 0.15, 0.12, 0.10, 0.10, 0.11, 0.12, 0.13, 0.14])
    floor = np.array([0.03, 0.03, 0.04, 0.06, 0.10, 0.20, 0.35, 0.40, 0.45, 0.45])
    return tuned_surfaces(room, np.array([wall, wall, wall, wall, floor, wall]), reverberation_s=reverberation_s)


def tuned_surfaces(room: RoomSize, absorption: NDArray, *, reverberation_s: float) -> RoomSurfaces:
    """The same surfaces in proportion, so that Eyring's time is the wanted one on average from 63 to 250 Hz."""
    size = (room.width_m, room.length_m, room.height_m)
    # Eyring's time goes with the mean absorption, not with the mean exponent: a few rounds settle it.
    exponents = -np.log1p(-np.clip(absorption, 0, 0.98))
    x, y, z = size
    areas = np.array([y * z, y * z, x * z, x * z, x * y, x * y])
    for _ in range(12):
        times = eyring_s(float(np.prod(size)), areas, 1 - np.exp(-exponents), speed_m_s=343.0)
        exponents = np.minimum(exponents * float(np.mean(times[1:4])) / reverberation_s, 4.0)
    return RoomSurfaces(size_m=size, absorption=tuple(map(tuple, np.round(1 - np.exp(-exponents), 4))))
