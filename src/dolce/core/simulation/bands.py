"""Octave bands that add up to the whole."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import raised_cosine
from dolce.core.simulation.surfaces import BANDS_HZ


def band_weights(frequency_hz: NDArray) -> NDArray[np.float64]:
    """Weight of each octave band at each frequency, shape (bands, points): squared cosines that add up to 1."""
    at = np.log2(np.maximum(frequency_hz, 1e-3)[None, :] / BANDS_HZ[:, None])
    weights = raised_cosine(1 - np.abs(at))
    weights[0, at[0] < 0] = 1.0
    weights[-1, at[-1] > 0] = 1.0
    return weights


@lru_cache(maxsize=16)
def weights_of_transform(samples: int, sample_rate_hz: int) -> NDArray[np.float64]:
    """`band_weights` at the lines of a real Fourier transform of so many samples; read-only."""
    weights = band_weights(np.fft.rfftfreq(samples, 1 / sample_rate_hz))
    weights.flags.writeable = False
    return weights
