"""Recordings made by a machine with a clock of its own."""

from fractions import Fraction

import numpy as np
from numpy.typing import NDArray
from scipy import fft, signal

from dolce.core.response.deconvolution import Deconvolver

_SEARCH_PPM = 300.0
_WORTH_PPM = 3.0          # less than this is left alone
_GAIN = 1.02              # and the peak must grow by so much


def resampled(recording: NDArray[np.float64], *, from_hz: int, to_hz: int) -> NDArray[np.float64]:
    """The recording at another sample rate, shape (samples,): exact for a band-limited signal.

    The whole recording is transformed at once, padded at the end to a length that both rates can hold.
    """
    if from_hz == to_hz:
        return recording
    ratio = Fraction(to_hz, from_hz)
    blocks = -(-recording.size // ratio.denominator) + 64
    padded = np.concatenate([recording, np.zeros(blocks * ratio.denominator - recording.size)])
    return signal.resample(padded, blocks * ratio.numerator)[: round(recording.size * ratio)]


def without_drift(recording: NDArray[np.float64], *, deconvolver: Deconvolver,
                  octave_s: float) -> tuple[NDArray[np.float64], float]:
    """The recording on the stimulus' clock, and the drift that was taken out in parts per million.

    Parameters
    ----------
    octave_s : float
        Time that the logarithmic sweep takes for one octave.

    Returns
    -------
    (ndarray, float)
        The recording as it came and 0.0, where no drift stands out.

    Notes
    -----
    A clock that runs off by d delays a frequency by d times the time at which the sweep passes it. The direct sound
    is thereby smeared, most visibly where many cycles fit into the smear. The drift is the one that makes the direct
    sound above 1 kHz most compact again: its phase is turned back by that delay for a row of candidates, and the
    highest peak wins. Source: our own; compare the estimates for MLS in ISO 18233, Annex A.
    """
    rate = deconvolver.sample_rate_hz
    _, spectrum = deconvolver.spectrum(recording)
    frequency = fft.rfftfreq(deconvolver.size, 1 / rate)
    whole = fft.irfft(spectrum, deconvolver.size)
    centre = int(np.argmax(np.abs(whole)))
    part = np.take(whole, np.arange(centre - 2048, centre + 2048), mode="wrap") * np.hanning(4096)
    spectrum = fft.rfft(part)
    frequency = fft.rfftfreq(4096, 1 / rate)
    band = (frequency > 1000) & (frequency < min(16_000, 0.9 * deconvolver.band_hz[1]))
    # Group delay d * octave_s * log2(f / f1) integrated over frequency is the phase to turn back.
    turn = 2 * np.pi * octave_s * frequency[band] * (np.log2(frequency[band] / 1000) - 1 / np.log(2))
    # Equal energy per octave: the smear is the same at every pitch.
    half = np.where(band, spectrum, 0)[band] / np.sqrt(frequency[band])

    def peaks(drifts: NDArray) -> NDArray:
        turned = half * np.exp(1j * np.multiply.outer(drifts * 1e-6, turn))
        full = np.zeros((drifts.size, 4 * 4096), dtype=complex)     # four times finer: the peak falls between samples
        full[:, np.flatnonzero(band)] = turned
        return np.abs(fft.ifft(full, axis=1)).max(axis=1)

    coarse = np.arange(-_SEARCH_PPM, _SEARCH_PPM + 1, 5.0)
    best = coarse[np.argmax(peaks(coarse))]
    fine = best + np.arange(-5, 5.01, 0.25)
    heights = peaks(fine)
    drift = float(fine[np.argmax(heights)])
    untouched = float(peaks(np.zeros(1))[0])
    if abs(drift) < _WORTH_PPM or heights.max() < _GAIN * untouched:
        return recording, 0.0
    return stretched(recording, drift * 1e-6), drift


def stretched(recording: NDArray, drift: float) -> NDArray:
    """The recording read at times n (1 + drift), interpolated on a grid 8 times finer; as long as before."""
    finer = 8
    dense = signal.resample(np.concatenate([recording, np.zeros(256)]), (recording.size + 256) * finer)
    at = np.arange(recording.size) * (1 + drift) * finer
    k = np.clip(at.astype(np.int64), 1, dense.size - 3)
    t = at - k
    a, b, c, d = dense[k - 1], dense[k], dense[k + 1], dense[k + 2]
    # Catmull-Rom through four points: at 8 times oversampling far below 24-bit noise up to 20 kHz.
    return b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)))
