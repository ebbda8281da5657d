"""Several impulse responses on one time axis that begins when the sound is emitted."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from dolce.core.response.clock_drift import stretched
from dolce.core.response.impulse import ImpulseResponse


def from_emission(responses: Sequence[ImpulseResponse]) -> NDArray[np.float64]:
    """Samples from the moment of the impulse on, shape (responses, samples), all as long as the longest.

    Whatever lies ahead of that moment (a band-limited response rings before it begins) is cut off. Beginnings that fall
    between two samples are moved onto one by interpolation, so that arrivals stay as they are.
    """
    starts = [response.start_s * response.sample_rate_hz for response in responses]
    length = max(round(start) + response.sample.size for start, response in zip(starts, responses, strict=True))
    rows = np.zeros((len(responses), max(length, 1)))
    for row, start, response in zip(rows, starts, responses, strict=True):
        first = round(start)
        sample = response.sample
        if abs(start - first) > 1e-6:
            sample = stretched(sample, 0.0, start=first - start)
        part = sample[max(-first, 0) :]
        row[max(first, 0) : max(first, 0) + part.size] = part
    return rows
