"""Fades and windows made of half cosines."""

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray


def raised_cosine(part: ArrayLike) -> NDArray[np.float64]:
    """From 0 at `part` 0 to 1 at `part` 1 along half a cosine, held beyond, shape as `part`.

    `1 - raised_cosine(x)` falls along cos^2(pi x / 2); the two add up to 1, as halves of a cross-fade do.
    """
    return 0.5 - 0.5 * np.cos(np.pi * np.clip(part, 0, 1))


def fade_in(samples: int) -> NDArray[np.float64]:
    """Rising half of a squared sine window, shape (samples,); `scipy.signal.windows.cosine` squared."""
    return scipy.signal.windows.cosine(2 * samples)[:samples] ** 2


def fade_out(samples: int) -> NDArray[np.float64]:
    """`fade_in` from its end, shape (samples,)."""
    return fade_in(samples)[::-1]


def faded(sample: NDArray[np.float64], *, rising: int = 0, falling: int = 0) -> NDArray[np.float64]:
    """A copy whose first and last samples are faded, as many as given or as there are, shape (samples,)."""
    out = np.array(sample, dtype=np.float64)
    rising, falling = min(rising, out.size), min(falling, out.size)
    if rising:
        out[:rising] *= fade_in(rising)
    if falling:
        out[out.size - falling :] *= fade_out(falling)
    return out
