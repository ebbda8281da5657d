"""Regularised spectral division of a recording by its stimulus."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import in_band
from dolce.core.response.impulse import ImpulseResponse
from dolce.errors import InvalidValue

_INSIDE = 1e-9  # regularisation inside the swept band, relative to the stimulus there
# Over how many octaves it rises outside. Below the band gently: a steep edge at 10 Hz rings for longer than is kept
# ahead of the arrival, which cost 0.02 dB at 20 Hz.
_LOW_EDGE_OCTAVES, _HIGH_EDGE_OCTAVES = 1.0, 0.25
_PART = 1 << 18
_AROUND_S = 2.0  # more than is kept of a response, ahead of its arrival and behind it


class Deconvolver:
    """Turns recordings of one stimulus into impulse responses; the stimulus is transformed once.

    Parameters
    ----------
    stimulus : ndarray, shape (samples,)
        What was played. Any broadband signal.
    sample_rate_hz : int
    recording_samples : int
        Length of the recordings to come.
    band_hz : (float, float), optional
        The band that the stimulus covers; found from the stimulus when left out.
    sweep_s : float, optional
        How long the sweep in it lasts, where marks stand around it: its harmonics arrive that much earlier.
    periodic : bool
        Whether the stimulus is one period of a signal that repeats; recordings are one period, too.

    Raises
    ------
    InvalidValue
        If the stimulus is silent or shorter than 1000 samples.

    References
    ----------
    S. Mueller and P. Massarani, "Transfer-function measurement with sweeps", JAES 49, 443-471 (2001);
    regularisation after O. Kirkeby and P. A. Nelson, JAES 47, 583-595 (1999).
    """

    def __init__(
        self,
        stimulus: NDArray[np.float64],
        *,
        sample_rate_hz: int,
        recording_samples: int,
        band_hz: tuple[float, float] | None = None,
        sweep_s: float | None = None,
        periodic: bool = False,
    ) -> None:
        if stimulus.size < 1000 or not np.any(stimulus):
            raise InvalidValue(
                "the stimulus is silent or too short.", where="stimulus", remedy="Use the sweep that was played."
            )
        self.sample_rate_hz = sample_rate_hz
        self.periodic = periodic
        self.stimulus_s = 0.0 if periodic else stimulus.size / sample_rate_hz  # a period has no end to miss
        self.sweep_s = sweep_s or stimulus.size / sample_rate_hz
        # What comes back around lies behind whatever a recording that holds its sweep can tell: a response begins no
        # later than the recording's length less the sweep's.
        around = round(_AROUND_S * sample_rate_hz)
        self.size = (
            stimulus.size
            if periodic
            else scipy.fft.next_fast_len(max(recording_samples, stimulus.size) + min(around, stimulus.size), real=True)
        )
        self._ahead = max(self.size // 4, 0 if periodic else stimulus.size // 2)
        self.stimulus_spectrum = scipy.fft.rfft(stimulus, self.size)
        power = self.stimulus_spectrum.real**2 + self.stimulus_spectrum.imag**2
        frequency = scipy.fft.rfftfreq(self.size, 1 / sample_rate_hz)
        self.band_hz = band_hz or _covered_band(frequency, power)
        low, high = self.band_hz
        edges = power[np.searchsorted(frequency, low)], power[np.searchsorted(frequency, high, "right") - 1]
        # Part by part: a long recording at a high rate has many lines.
        self._inverse = np.conj(self.stimulus_spectrum)
        for begin in range(0, power.size, _PART):
            part = slice(begin, begin + _PART)
            self._inverse[part] /= power[part] + self._regularisation(frequency[part], power[part], edges)

    def _regularisation(self, frequency: NDArray, power: NDArray, edges: tuple[float, float]) -> NDArray:
        """Next to nothing in the band; outside rising to the stimulus' own power at the nearer edge, tenfold."""
        low, high = self.band_hz
        inside = in_band(frequency, (low, high))
        octaves = np.log2(np.maximum(frequency, 1e-6))
        rise = np.clip(
            np.maximum((np.log2(low) - octaves) / _LOW_EDGE_OCTAVES, (octaves - np.log2(high)) / _HIGH_EDGE_OCTAVES),
            0,
            1,
        )
        edge_power = np.where(frequency < low, *edges)
        reference = np.where(inside, power, np.maximum(power, edge_power))
        return reference * (_INSIDE + 10 * rise**4)

    def spectrum(self, recording: NDArray[np.float64]) -> tuple[NDArray, NDArray]:
        """Spectra of the recording and of the response, both shape (size // 2 + 1,)."""
        recorded = scipy.fft.rfft(recording, self.size)
        return recorded, recorded * self._inverse

    def noise_gain(self, at_hz: NDArray) -> NDArray[np.float64]:
        """What division by the stimulus makes of the power of noise, |1 / S|^2, shape (wanted,)."""
        frequency = scipy.fft.rfftfreq(self.size, 1 / self.sample_rate_hz)
        return np.exp(np.interp(at_hz, frequency, 2 * np.log(np.maximum(np.abs(self._inverse), 1e-30))))

    def impulse(self, response_spectrum: NDArray) -> ImpulseResponse:
        """The whole circular response, rolled so that times before zero come first.

        Harmonics of a sweep land before the arrival; half of its length is kept for them, or a quarter of the whole.
        """
        sample = scipy.fft.irfft(response_spectrum, self.size)
        ahead = self._ahead
        return ImpulseResponse(
            sample=np.concatenate([sample[-ahead:], sample[:-ahead]]),
            sample_rate_hz=self.sample_rate_hz,
            start_s=-ahead / self.sample_rate_hz,
        )


def _covered_band(frequency: NDArray, power: NDArray) -> tuple[float, float]:
    """From lowest to highest frequency where the stimulus lies within 10 dB of its own pink trend."""
    bands = np.geomspace(5, frequency[-1] * 0.9999, 200)
    cumulative = np.concatenate([[0.0], np.cumsum(power)])
    edges = np.searchsorted(frequency, np.stack([bands / 1.02, bands * 1.02]))
    per_octave = cumulative[edges[1]] - cumulative[edges[0]]
    loud = np.flatnonzero(per_octave > 0.1 * np.median(np.sort(per_octave)[-100:]))
    return float(bands[loud[0]]), float(bands[loud[-1]])
