"""Level and phase over frequency from an impulse response."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.dsp import delay_response, mid_bands, power_db, smoothed_db, smoothed_power
from dolce.core.response.impulse import ImpulseResponse

ANALYSIS_GRID_HZ = mid_bands(per_octave=48, from_hz=10, to_hz=22_000)
ANALYSIS_GRID_HZ.flags.writeable = False


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FrequencyResponse:
    """Level over frequency at one spot, relative to the stimulus.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
        Strictly rising, above 0.
    level_db : ndarray, shape (points,)
    phase_deg : ndarray, shape (points,), or None where it is not known
    """

    frequency_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]
    phase_deg: NDArray[np.float64] | None = None

    def __post_init__(self) -> None:
        frequency_hz = checked.rising(self.frequency_hz, where="frequency_hz")
        level_db = checked.finite(self.level_db, shape=frequency_hz.shape, where="level_db")
        object.__setattr__(self, "frequency_hz", frequency_hz)
        object.__setattr__(self, "level_db", level_db)
        if self.phase_deg is not None:
            phase_deg = checked.finite(self.phase_deg, shape=frequency_hz.shape, where="phase_deg")
            object.__setattr__(self, "phase_deg", phase_deg)

    def on(self, frequency_hz: NDArray[np.float64]) -> NDArray[np.float64]:
        """Level in dB at other frequencies, straight over the logarithm of frequency, held beyond the ends."""
        return np.interp(np.log(frequency_hz), np.log(self.frequency_hz), self.level_db)

    def smoothed_on(self, frequency_hz: NDArray[np.float64], *, per_octave: float) -> NDArray[np.float64]:
        """Level in dB at other frequencies, smoothed in power over 1/`per_octave` octave from all points there are."""
        at = np.clip(frequency_hz, self.frequency_hz[0] * 1.0001, self.frequency_hz[-1] * 0.9999)
        return smoothed_db(self.frequency_hz, self.level_db, at_hz=at, per_octave=per_octave)


def transformed(response: ImpulseResponse) -> tuple[NDArray, NDArray]:
    """Frequencies and complex spectrum, padded to bins of 0.4 Hz or finer; phases count from the first sample."""
    size = scipy.fft.next_fast_len(max(4 * response.sample.size, round(response.sample_rate_hz / 0.4)), real=True)
    return scipy.fft.rfftfreq(size, 1 / response.sample_rate_hz), scipy.fft.rfft(response.sample, size)


def level_on_grid(response: ImpulseResponse, *, at_hz: NDArray, per_octave: float | None) -> NDArray:
    """Level in dB at the given frequencies, smoothed over 1/`per_octave` octave or not at all (None).

    Frequencies above half the sample rate get the level at the top of the spectrum.

    Returns
    -------
    ndarray, shape (wanted,)
    """
    frequency, power = _power(response)
    if per_octave is None:
        return _unsmoothed(frequency, power, at_hz)
    return _smoothed(frequency, power, at_hz, per_octave)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class GridLevels:
    """A response on the analysis grid.

    Attributes
    ----------
    level_db, fine_db : ndarray, shape (points,)
        Smoothed over 1/48 octave, and not at all.
    """

    level_db: NDArray[np.float64]
    fine_db: NDArray[np.float64]


def grid_levels(response: ImpulseResponse) -> GridLevels:
    """Both levels from one transform; as `level_on_grid`."""
    frequency, power = _power(response)
    return GridLevels(
        level_db=_smoothed(frequency, power, ANALYSIS_GRID_HZ, 48.0),
        fine_db=_unsmoothed(frequency, power, ANALYSIS_GRID_HZ),
    )


def _power(response: ImpulseResponse) -> tuple[NDArray, NDArray]:
    frequency, spectrum = transformed(response)
    return frequency, spectrum.real**2 + spectrum.imag**2


def _unsmoothed(frequency: NDArray, power: NDArray, at_hz: NDArray) -> NDArray:
    """Between the two bins beside each frequency, straight in dB."""
    place = np.minimum(at_hz, frequency[-1]) / frequency[1]
    below = np.minimum(place.astype(int), frequency.size - 2)
    part = place - below
    return (1 - part) * power_db(power[below]) + part * power_db(power[below + 1])


def _smoothed(frequency: NDArray, power: NDArray, at_hz: NDArray, per_octave: float) -> NDArray:
    at = np.minimum(at_hz, frequency[-1])
    return power_db(np.maximum(smoothed_power(frequency[1:], power[1:], at_hz=at, per_octave=per_octave), 0))


def smoothed_level_db(level_db: NDArray, *, per_octave: float | NDArray) -> NDArray:
    """Levels on the analysis grid, shape (..., points), smoothed further; 48 and finer leave them as they are.

    `per_octave` may go with frequency, shape (points,).
    """
    if np.min(per_octave) >= 48:
        return np.asarray(level_db)
    return smoothed_db(ANALYSIS_GRID_HZ, np.asarray(level_db), at_hz=ANALYSIS_GRID_HZ, per_octave=per_octave)


def phase_deg(response: ImpulseResponse, *, at_hz: NDArray, arrival_s: float) -> NDArray:
    """Phase in degrees (-180, 180] at the given frequencies, relative to the arrival, shape (wanted,)."""
    frequency, spectrum = transformed(response)
    turned = spectrum * delay_response(frequency, response.start_s - arrival_s)
    at = np.minimum(at_hz, frequency[-1])
    real, imaginary = (np.interp(at, frequency, part) for part in (turned.real, turned.imag))
    return np.degrees(np.arctan2(imaginary, real))
