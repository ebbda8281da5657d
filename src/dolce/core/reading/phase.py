"""When a response says what: phase and group delay, and what of them is more than its level asks for."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delay_response, minimum_phase_rad, minimum_phase_spectrum, smoothed_power
from dolce.core.response import ImpulseResponse, transformed

_FLOOR_DB = -120.0  # below the strongest: outside the swept band there is nothing to take a logarithm of


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PhaseCurves:
    """Phase of one response, relative to its arrival, each of shape (points,), in degrees.

    Attributes
    ----------
    unwrapped_deg : as it goes on over frequency, without jumps
    minimum_deg : of the minimum-phase response with the same level
    excess_deg : what is left between them
    """

    unwrapped_deg: NDArray[np.float64]
    minimum_deg: NDArray[np.float64]
    excess_deg: NDArray[np.float64]

    @property
    def wrapped_deg(self) -> NDArray[np.float64]:
        """In (-180, 180]."""
        return 180 - (180 - self.unwrapped_deg) % 360


def phase_curves(response: ImpulseResponse, *, at_hz: NDArray, arrival_s: float) -> PhaseCurves:
    """Phase at the given frequencies, relative to the arrival.

    Unwrapped from 1 kHz, where the turn is the one nearest to zero, both ways over all bins of the transform.
    """
    frequency, spectrum = transformed(response)
    turned = spectrum * delay_response(frequency, response.start_s - arrival_s)
    whole = np.unwrap(np.angle(turned))
    whole -= 2 * np.pi * np.round(np.interp(1000.0, frequency, whole) / (2 * np.pi))
    minimum = minimum_phase_rad(_log_level(spectrum))
    total, least = (np.degrees(np.interp(at_hz, frequency, phase)) for phase in (whole, minimum))
    return PhaseCurves(unwrapped_deg=total, minimum_deg=least, excess_deg=total - least)


def group_delay_s(
    response: ImpulseResponse, *, at_hz: NDArray, arrival_s: float, per_octave: float | NDArray
) -> NDArray:
    """Group delay after the arrival, shape (wanted,): weighted by power over 1/`per_octave` octave.

    Notes
    -----
    -d phi / d omega = Re(H* F(t h)) / |H|^2, numerator and denominator smoothed apart: where the level is low the delay
    of the neighbourhood counts, and no bin at the bottom of a dip runs off to infinity. Source of the identity: J. O.
    Smith, "Introduction to digital filters", "Numerical computation of group delay" (2007).
    """
    frequency, spectrum = transformed(response)
    timed = ImpulseResponse(
        sample=response.sample * (response.time_s - arrival_s),
        sample_rate_hz=response.sample_rate_hz,
        start_s=response.start_s,
    )
    _, moment = transformed(timed)
    both = np.stack([np.real(np.conj(spectrum) * moment), np.abs(spectrum) ** 2])
    delayed, power = smoothed_power(frequency[1:], both[:, 1:], at_hz=at_hz, per_octave=per_octave)
    return delayed / np.maximum(power, 1e-30)


def excess_group_delay_s(
    response: ImpulseResponse, *, at_hz: NDArray, arrival_s: float, per_octave: float | NDArray
) -> NDArray:
    """Group delay beyond that of the minimum-phase response with the same level, shape (wanted,).

    Near zero where a filter that corrects the level corrects the time as well; away from it a correction of the level
    leaves the ringing or the reflection in time (L. D. Fielder, JAES 51, 3-26, 2003).
    """
    return group_delay_s(response, at_hz=at_hz, arrival_s=arrival_s, per_octave=per_octave) - group_delay_s(
        minimum_phase(response), at_hz=at_hz, arrival_s=0.0, per_octave=per_octave
    )


def minimum_phase(response: ImpulseResponse) -> ImpulseResponse:
    """The minimum-phase response with the same level, its energy as early as can be, starting at 0 s."""
    _, spectrum = transformed(response)
    sample = scipy.fft.irfft(minimum_phase_spectrum(_log_level(spectrum)))
    return ImpulseResponse(
        sample=sample[: max(response.sample.size, 2)], sample_rate_hz=response.sample_rate_hz, start_s=0.0
    )


def _log_level(spectrum: NDArray) -> NDArray:
    """Natural logarithm of the magnitude, with a floor."""
    magnitude = np.abs(spectrum)
    return np.log(np.maximum(magnitude, magnitude.max() * 10 ** (_FLOOR_DB / 20)))
