"""Regularised spectral division of a recording by its stimulus."""

import math

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
_SINGLE_ABOVE = 1 << 22  # samples: 22 s at 192 kHz
_AROUND_S = 2.0  # more than is kept of a response, ahead of its arrival and behind it


def precision_for(samples: int) -> type[np.floating]:
    """Precision in which a recording of so many samples is divided.

    Single for long ones: it takes half the memory, and its rounding noise lies 120 dB below the recording, which no
    converter reaches.
    """
    return np.float32 if samples > _SINGLE_ABOVE else np.float64


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
        self.precision = precision_for(recording_samples)
        self.stimulus_spectrum = scipy.fft.rfft(stimulus.astype(self.precision, copy=False), self.size)
        lines = self.stimulus_spectrum
        spacing_hz = sample_rate_hz / self.size
        self.band_hz = band_hz or _covered_band(spacing_hz, lines)
        low, high = self.band_hz
        ends = math.ceil(low / spacing_hz), min(math.floor(high / spacing_hz), lines.size - 1)
        edges = float(np.abs(lines[ends[0]]) ** 2), float(np.abs(lines[ends[1]]) ** 2)
        # Part by part: a long recording at a high rate has many lines.
        self._weight = np.empty(lines.size, dtype=self.precision)
        for begin in range(0, lines.size, _PART):
            part = slice(begin, min(begin + _PART, lines.size))
            power = lines[part].real.astype(float) ** 2 + lines[part].imag.astype(float) ** 2
            frequency = np.arange(part.start, part.stop) * spacing_hz
            self._weight[part] = 1 / (power + self._regularisation(frequency, power, edges))

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
        recorded = scipy.fft.rfft(recording.astype(self.precision, copy=False), self.size)
        spectrum = np.conj(self.stimulus_spectrum)
        spectrum *= self._weight
        spectrum *= recorded
        return recorded, spectrum

    def noise_gain(self, at_hz: NDArray) -> NDArray[np.float64]:
        """What division by the stimulus makes of the power of noise, |1 / S|^2, shape (wanted,)."""
        frequency = scipy.fft.rfftfreq(self.size, 1 / self.sample_rate_hz)
        gain = np.abs(self.stimulus_spectrum) * self._weight
        return np.exp(np.interp(at_hz, frequency, 2 * np.log(np.maximum(gain, 1e-30))))

    def impulse(self, response_spectrum: NDArray) -> ImpulseResponse:
        """The whole circular response, rolled so that times before zero come first.

        Harmonics of a sweep land before the arrival; half of its length is kept for them, or a quarter of the whole.
        """
        sample = scipy.fft.irfft(response_spectrum, self.size)
        rolled = np.roll(sample, self._ahead)
        del sample
        rolled.flags.writeable = False
        return ImpulseResponse(
            sample=rolled, sample_rate_hz=self.sample_rate_hz, start_s=-self._ahead / self.sample_rate_hz
        )


def _covered_band(spacing_hz: float, lines: NDArray) -> tuple[float, float]:
    """From lowest to highest frequency where the stimulus lies within 10 dB of its own pink trend."""
    bands = np.geomspace(5, (lines.size - 1) * spacing_hz * 0.9999, 200)
    cumulative = np.zeros(lines.size + 1)
    np.cumsum(lines.real**2 + lines.imag**2, dtype=float, out=cumulative[1:])
    edges = np.minimum(np.ceil(np.stack([bands / 1.02, bands * 1.02]) / spacing_hz).astype(int), lines.size)
    per_octave = cumulative[edges[1]] - cumulative[edges[0]]
    loud = np.flatnonzero(per_octave > 0.1 * np.median(np.sort(per_octave)[-100:]))
    return float(bands[loud[0]]), float(bands[loud[-1]])
