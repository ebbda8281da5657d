"""Delays of parts of a sample."""

import numpy as np
from numpy.typing import ArrayLike, NDArray


def delay_response(at_hz: ArrayLike, delay_s: ArrayLike) -> NDArray[np.complex128]:
    """What a delay does to a spectrum: exp(-2 pi i f t), shape (*delays, points); negative for earlier."""
    return np.exp(-2j * np.pi * np.multiply.outer(np.asarray(delay_s, dtype=float), np.asarray(at_hz, dtype=float)))
