"""How a cone in a box beams: a spherical cap that moves in a rigid sphere."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache

_STEP_DEG = 5.0
_LOG_STEP = 0.25  # of the table, in octaves
_LOWEST_HZ, _HIGHEST_HZ = 50.0, 24_000.0


def cap_in_sphere(k_radius: NDArray, *, cap_deg: float, angle_deg: NDArray) -> NDArray[np.float64]:
    """Far-field pressure of a cap that moves in a rigid sphere, against that on its axis.

    Parameters
    ----------
    k_radius : ndarray, shape (points,)
        Wave number times the radius of the sphere.
    cap_deg : float
        Half of the angle that the cap fills, seen from the middle.
    angle_deg : ndarray, shape (angles,)
        From the axis.

    Returns
    -------
    ndarray, shape (points, angles)

    References
    ----------
    P. M. Morse and K. U. Ingard, "Theoretical Acoustics", section 7.2; R. M. Aarts and A. J. E. M. Janssen, "Comparing
    sound radiation from a loudspeaker with that from a flexible spherical cap on a rigid sphere", J. Audio Eng. Soc.
    59 (2011), which finds it close to a loudspeaker in a box.
    """
    ka = np.maximum(np.asarray(k_radius, dtype=float), 1e-3)[:, None]
    terms = np.arange(int(ka.max()) + 12)
    rim = np.cos(np.radians(cap_deg))
    velocity = 0.5 * (scipy.special.eval_legendre(np.abs(terms - 1), rim) - scipy.special.eval_legendre(terms + 1, rim))
    velocity[0] = 0.5 * (1 - rim)
    with np.errstate(invalid="ignore", over="ignore"):  # terms that weigh nothing
        slope = scipy.special.spherical_jn(terms, ka, derivative=True) - 1j * scipy.special.spherical_yn(
            terms, ka, derivative=True
        )
        parts = np.where(np.isfinite(slope), 1j ** (terms + 1) * velocity / slope, 0)
    waves = scipy.special.eval_legendre(terms[:, None], np.cos(np.radians(angle_deg))[None, :])
    pressure = np.abs(parts @ waves)
    return pressure / np.abs(parts.sum(axis=1))[:, None]  # P_n(1) = 1


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BeamTable:
    """Pressure of one driver by frequency and angle against that on its axis.

    Attributes
    ----------
    log_hz, angle_deg : ndarray
        Of the table's rows and columns.
    pressure : ndarray, shape (rows, columns)
    """

    log_hz: NDArray[np.float64]
    angle_deg: NDArray[np.float64]
    pressure: NDArray[np.float64]

    def toward(self, angle_deg: float, frequency_hz: NDArray) -> NDArray[np.float64]:
        """Toward one direction at many frequencies."""
        at = np.clip(angle_deg / _STEP_DEG, 0, self.angle_deg.size - 1.001)
        column = int(at)
        row = self.pressure[:, column] * (1 - at + column) + self.pressure[:, column + 1] * (at - column)
        return np.interp(np.log2(np.maximum(frequency_hz, 1.0)), self.log_hz, row)

    def around(self, frequency_hz: NDArray) -> NDArray[np.float64]:
        """At some frequencies in all directions of the table, shape (points, angles)."""
        log_hz = np.log2(np.maximum(frequency_hz, 1.0))
        return np.stack([np.interp(log_hz, self.log_hz, column) for column in self.pressure.T], axis=1)


@cache(32)
def beam_table(*, driver_radius_m: float, box_radius_m: float) -> BeamTable:
    """Of a driver in a box of about that size, at 343 m/s."""
    log_hz = np.arange(np.log2(_LOWEST_HZ), np.log2(_HIGHEST_HZ) + _LOG_STEP, _LOG_STEP)
    angle = np.arange(0, 180 + _STEP_DEG, _STEP_DEG)
    cap = np.degrees(np.arcsin(min(0.95, driver_radius_m / box_radius_m)))
    return BeamTable(
        log_hz=log_hz,
        angle_deg=angle,
        pressure=cap_in_sphere(2 * np.pi * 2**log_hz / 343.0 * box_radius_m, cap_deg=cap, angle_deg=angle),
    )


def mean_power(pressure: NDArray, angle_deg: NDArray) -> NDArray[np.float64]:
    """Power over all directions against as much in every direction as on the axis; `pressure` (..., angles)."""
    angle = np.radians(angle_deg)
    return np.trapezoid(pressure**2 * np.sin(angle), angle, axis=-1) / 2
