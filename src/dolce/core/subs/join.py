"""Mains and the group of subs at their crossover: one delay and polarity of the group for all of them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

_COARSE_S, _FINE_S = 1e-4, 1e-5

Kind = Literal["linkwitz-riley", "butterworth"]


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupSetting:
    """What the subs get as a group, besides what each has.

    Attributes
    ----------
    loss_db : tuple of float
        Of each main: its sum with the subs against both magnitudes added, mean over the band and the spots; 0 is in
        phase everywhere.
    """

    delay_s: float
    polarity: Literal[1, -1]
    loss_db: tuple[float, ...]


def crossover_sides(corner_hz: float, at_hz: NDArray, *, slope_db: int = 24,
                    kind: Kind = "linkwitz-riley") -> tuple[NDArray, NDArray]:
    """High-pass and low-pass at frequencies.

    References
    ----------
    S. H. Linkwitz, "Active crossover networks for noncoincident drivers", JAES 24, 2-8 (1976): two Butterworth filters
    of half the order in a row.
    """
    order = slope_db // 6
    half = order // 2 if kind == "linkwitz-riley" else order

    def side(way: str) -> NDArray:
        b, a = scipy.signal.butter(half, 2 * np.pi * corner_hz, way, analog=True)
        response = scipy.signal.freqs(b, a, 2 * np.pi * at_hz)[1]
        return response**2 if kind == "linkwitz-riley" else response

    return side("high"), side("low")


class Join:
    """Mains, high-passed and at the level of the subs, and the low-passed group, at spots.

    Parameters
    ----------
    frequency_hz : ndarray, shape (n,)
    mains : ndarray, shape (mains, spots, n)
        With their delays, polarities and levels as they will be.
    group : ndarray, shape (spots, n)
    smoothing : ndarray, shape (n, points)
        Makes means of power of the band that is judged.
    """

    def __init__(self, frequency_hz: NDArray, mains: NDArray, group: NDArray, smoothing: NDArray) -> None:
        self._frequency, self._mains, self._group, self._smooth = frequency_hz, mains, group, smoothing
        self._most = ((np.abs(mains) + np.abs(group)) ** 2) @ smoothing

    def loss_db(self, delay_s: float, polarity: int) -> NDArray[np.float64]:
        """Of each main, with the whole group later by so much."""
        turned = self._group * polarity * np.exp(-2j * np.pi * self._frequency * delay_s)
        total = (np.abs(self._mains + turned) ** 2) @ self._smooth
        return 10 * np.log10(np.maximum(total, 1e-20) / np.maximum(self._most, 1e-20)).mean(axis=(1, 2))

    def best(self, lowest_s: float, highest_s: float) -> GroupSetting:
        """The delay and polarity that lose least over all mains and spots, tried one after the other."""
        def tried(delays: Sequence[float]) -> tuple[float, float, int]:
            return max((float(self.loss_db(delay, way).mean()), float(delay), way) for delay in delays
                       for way in (1, -1))

        _, near, _ = tried(np.arange(lowest_s, highest_s + 1e-9, _COARSE_S))
        around = np.clip(near + np.arange(-_COARSE_S, _COARSE_S + _FINE_S / 2, _FINE_S), lowest_s, highest_s)
        _, delay, polarity = tried(around)
        return GroupSetting(delay_s=delay, polarity=polarity, loss_db=tuple(self.loss_db(delay, polarity).tolist()))
