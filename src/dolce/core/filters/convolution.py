"""Correction filters as impulse responses."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import faded
from dolce.core.filters.bands import BandFilter, chain_samples

DURATION_S = 1.0  # the same at every rate: seconds decide what a filter resolves, not samples


def convolution_filter(
    filters: Sequence[BandFilter], *, sample_rate_hz: int, duration_s: float = DURATION_S
) -> NDArray[np.float64]:
    """Impulse response of a chain of bands, shape (round(duration_s * sample_rate_hz),).

    The bands are computed anew for the sample rate. Zeros and poles of peaking bands lie inside the unit circle, so
    their chain is of minimum phase as it is. The last tenth is faded out by a half cosine.
    """
    samples = round(duration_s * sample_rate_hz)
    impulse = np.zeros(samples)
    impulse[0] = 1.0
    return faded(chain_samples(filters, impulse, sample_rate_hz=sample_rate_hz), falling=samples // 10)
