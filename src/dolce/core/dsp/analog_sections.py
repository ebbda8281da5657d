"""Responses of the analogue sections that crossovers and all-passes are designed from."""

from typing import Literal

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

CrossoverKind = Literal["linkwitz-riley", "butterworth"]


def crossover_sides(
    crossover_hz: float, at_hz: ArrayLike, *, order: int = 4, kind: CrossoverKind = "linkwitz-riley"
) -> tuple[NDArray[np.complex128], NDArray[np.complex128]]:
    """High-pass and low-pass at frequencies, both shape (points,).

    References
    ----------
    S. H. Linkwitz, "Active crossover networks for noncoincident drivers", JAES 24, 2-8 (1976): two Butterworth filters
    of half the order in a row; at order 4 both sides are 6.02 dB down and in phase at the crossover frequency, and
    their sum is an all-pass.
    """
    sections = order // 2 if kind == "linkwitz-riley" else order
    angular = 2 * np.pi * np.asarray(at_hz, dtype=float)

    def side(name: Literal["high", "low"]) -> NDArray[np.complex128]:
        b, a = scipy.signal.butter(sections, 2 * np.pi * crossover_hz, name, analog=True)
        response = scipy.signal.freqs(b, a, angular)[1]
        return response**2 if kind == "linkwitz-riley" else response

    return side("high"), side("low")


def all_pass_response(frequency_hz: float, q: float, at_hz: ArrayLike) -> NDArray[np.complex128]:
    """Second-order all-pass, shape (points,): (s^2 - s / Q + 1) / (s^2 + s / Q + 1), s = j f / f0.

    With a Q of 1 / sqrt(2) it is the sum of both sides of a Linkwitz-Riley crossover of 24 dB per octave
    (S. H. Linkwitz, as above).
    """
    s = 1j * np.asarray(at_hz, dtype=float) / frequency_hz
    return (s * s - s / q + 1) / (s * s + s / q + 1)
