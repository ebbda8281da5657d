"""Main channels and the group of subs at their crossover: one delay and polarity of the group for all of them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import delay_response, in_band
from dolce.core.subs.field import smoothing

CROSSOVER_OCTAVES = 1.0  # to either side of a crossover frequency, where the sum is judged
_COARSE_S, _FINE_S = 2e-4, 1e-5  # coarse: a thirtieth of a period at 160 Hz


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupSetting:
    """What the subs get as a group, besides what each has.

    Attributes
    ----------
    loss_db : tuple of float
        Of each main: its sum with the subs against both magnitudes added, mean over the band and weighted mean over the
        spots; 0 is in phase everywhere.
    """

    delay_s: float
    polarity: Literal[1, -1]
    loss_db: tuple[float, ...]


class SummationLoss:
    """Main channels, high-passed and at the level of the subs, and the low-passed group, at spots.

    Parameters
    ----------
    frequency_hz : ndarray, shape (n,)
    main_channels : ndarray, shape (main channels, spots, n)
        With their delays, polarities and levels as they will be.
    group : ndarray, shape (spots, n)
    smoothing : ndarray, shape (n, points)
        Makes means of power of the band that is judged.
    weights : shape (spots,), optional
        How much each spot counts; all alike where left out.
    """

    def __init__(
        self,
        frequency_hz: NDArray,
        main_channels: NDArray,
        group: NDArray,
        smoothing: NDArray,
        weights: ArrayLike | None = None,
    ) -> None:
        weight = np.ones(main_channels.shape[-2]) if weights is None else np.asarray(weights, dtype=float)
        self.weight = weight / weight.sum()
        self._frequency, self._smooth = frequency_hz, smoothing
        self._most = ((np.abs(main_channels) + np.abs(group)) ** 2) @ smoothing
        self._apart = (np.abs(main_channels) ** 2 + np.abs(group) ** 2) @ smoothing
        self._cross = 2 * np.conj(main_channels) * group

    def losses_db(self, delay_s: float) -> NDArray[np.float64]:
        """With the whole group later by so much, as it is and turned round, shape (2, main channels, spots)."""
        together = np.real(self._cross * delay_response(self._frequency, delay_s)) @ self._smooth
        total = np.stack([self._apart + together, self._apart - together])
        return 10 * np.log10(np.maximum(total, 1e-20) / np.maximum(self._most, 1e-20)).mean(axis=-1)

    def loss_db(self, delay_s: float, polarity: int) -> NDArray[np.float64]:
        """Of each main, weighted mean over the spots."""
        return self.losses_db(delay_s)[0 if polarity > 0 else 1] @ self.weight

    def best(self, lowest_s: float, highest_s: float) -> GroupSetting:
        """The delay and polarity that lose least over all main channels and spots, tried one after the other."""
        return best_of([self], lowest_s, highest_s)


def crossover_region(crossover_hz: float) -> tuple[float, float]:
    """Where main and subs play together: an octave to either side of their crossover frequency."""
    return crossover_hz / 2**CROSSOVER_OCTAVES, crossover_hz * 2**CROSSOVER_OCTAVES


def summation_loss_at(
    crossover_hz: float,
    frequency_hz: NDArray,
    main_channels: NDArray,
    group: NDArray,
    *,
    weights: ArrayLike | None = None,
) -> SummationLoss:
    """Main channels and group around their crossover, in steps of 1/24 octave; parameters as of `SummationLoss`."""
    low, high = crossover_region(crossover_hz)
    points = low * 2 ** (np.arange(int(24 * np.log2(high / low)) + 1) / 24)
    near = in_band(frequency_hz, (low / 1.1, high * 1.1))
    return SummationLoss(
        frequency_hz[near], main_channels[..., near], group[..., near], smoothing(frequency_hz[near], points), weights
    )


def best_of(
    losses: Sequence[SummationLoss], lowest_s: float, highest_s: float, *, per_s_db: float = 0.0
) -> GroupSetting:
    """The same over main channels of several crossovers: one setting serves all, and every main counts alike.

    `per_s_db` is what a second of delay either way counts as loss.
    """

    def tried(delays: NDArray) -> tuple[float, float, Literal[1, -1]]:
        best: tuple[float, float, Literal[1, -1]] = (-np.inf, 0.0, 1)
        for delay in delays:
            both = np.concatenate([join.losses_db(delay) @ join.weight for join in losses], axis=1).mean(axis=1)
            both = both - per_s_db * abs(delay)
            choice = int(np.argmax(both))
            best = max(best, (float(both[choice]), float(delay), -1 if choice else 1))
        return best

    _, near, _ = tried(np.arange(lowest_s, highest_s + 1e-9, _COARSE_S))
    around = np.clip(near + np.arange(-_COARSE_S, _COARSE_S + _FINE_S / 2, _FINE_S), lowest_s, highest_s)
    _, delay, polarity = tried(around)
    return GroupSetting(
        delay_s=delay,
        polarity=polarity,
        loss_db=tuple(float(loss) for join in losses for loss in join.loss_db(delay, polarity)),
    )
