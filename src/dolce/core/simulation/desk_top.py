"""A board that lifts part of the sound back up to the listener."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

_STRENGTH = 0.7
_WAVES = 2.0  # from half a wavelength across its smaller side on it reflects nearly in full


@dataclass(frozen=True, slots=True, kw_only=True)
class DeskTop:
    """The upper side of a desk.

    Attributes
    ----------
    x_m, y_m : (float, float)
        From where to where it reaches.
    top_m : float
        Its height.
    """

    x_m: tuple[float, float]
    y_m: tuple[float, float]
    top_m: float

    def reflection(
        self, source_m: NDArray, receiver_m: NDArray, frequency_hz: NDArray, *, speed_m_s: float
    ) -> NDArray[np.complex128]:
        """What it adds, against the direct sound at 1 m; 0 where the mirrored way misses it.

        References
        ----------
        The image method with one mirror; a first-order high-pass for the size of the board is our own approximation of
        J. H. Rindel, "Attenuation of sound reflections due to diffraction", Nordic Acoustical Meeting, 1986.
        """
        nothing = np.zeros(frequency_hz.size, dtype=complex)
        if min(source_m[2], receiver_m[2]) <= self.top_m + 0.01:
            return nothing
        part = (source_m[2] - self.top_m) / (source_m[2] + receiver_m[2] - 2 * self.top_m)
        x, y = source_m[:2] + part * (receiver_m[:2] - source_m[:2])
        if not (self.x_m[0] <= x <= self.x_m[1] and self.y_m[0] <= y <= self.y_m[1]):
            return nothing
        mirrored = np.array([source_m[0], source_m[1], 2 * self.top_m - source_m[2]])
        path_m = float(np.linalg.norm(receiver_m - mirrored))
        smaller = min(self.x_m[1] - self.x_m[0], self.y_m[1] - self.y_m[0])
        j = 1j * frequency_hz * _WAVES * smaller / speed_m_s
        return _STRENGTH * j / (1 + j) / path_m * np.exp(-2j * np.pi * frequency_hz * path_m / speed_m_s)
