"""Mains hum in a recording: a few steady tones, found in what the response does not explain, and taken out."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import vertex

MAINS_HZ = (50.0, 60.0)
_HARMONICS = (1, 2, 3)
_AROUND_HZ = 0.3  # how far mains may be off
_STANDS_OUT = 30.0  # power of a tone against the median of the lines near it


def may_hum(recorded: NDArray, explained: NDArray, *, size: int, sample_rate_hz: int) -> bool:
    """Whether any tone of mains hum stands out of what is not explained of a recording: a quick look before `hum_in`.

    Both are spectra of `size` samples, shape (size // 2 + 1,).
    """
    step = sample_rate_hz / size
    low = slice(0, round((max(_HARMONICS) * max(MAINS_HZ) + 6) / step) + 1)
    power = np.abs(recorded[low] - explained[low]) ** 2
    for mains in MAINS_HZ:
        for k in _HARMONICS:
            near = power[round((k * mains - 6) / step) : round((k * mains + 6) / step)]
            line = power[round((k * mains - k * _AROUND_HZ) / step) : round((k * mains + k * _AROUND_HZ) / step) + 1]
            if line.max() > _STANDS_OUT / 2 * np.median(near):
                return True
    return False


def hum_in(residual: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64] | None:
    """The tones of mains hum in a recording without its signal, shape (samples,); None where none stands out.

    Notes
    -----
    Each tone is looked for within 0.3 Hz of its place on a spectrum four times finer than its length gives, and fitted
    there by least squares, the loudest kind of mains alone. A tone that does not stand 15 dB above the lines around it
    is left.
    """
    size = 4 * residual.size
    spectrum = np.abs(np.fft.rfft(residual * scipy.signal.windows.hann(residual.size), size)) ** 2
    step = sample_rate_hz / size
    found: dict[float, list[float]] = {mains: [] for mains in MAINS_HZ}
    for mains in MAINS_HZ:
        for k in _HARMONICS:
            low, high = (round((k * mains + side * k * _AROUND_HZ) / step) for side in (-1, 1))
            best = low + int(np.argmax(spectrum[low : high + 1]))
            near = spectrum[round((k * mains - 6) / step) : round((k * mains + 6) / step)]
            if spectrum[best] > _STANDS_OUT * np.median(near):
                place = best + float(vertex(*np.log(spectrum[best - 1 : best + 2] + 1e-300)))
                found[mains].append(place * step)
    tones = max(found.values(), key=len)
    if not tones:
        return None
    time = np.arange(residual.size) / sample_rate_hz
    basis = np.column_stack([wave(2 * np.pi * f * time) for f in tones for wave in (np.cos, np.sin)])
    weights, *_ = np.linalg.lstsq(basis, residual, rcond=None)
    return basis @ weights
