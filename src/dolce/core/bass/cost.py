"""What filters of the common bass cost at given spots, and how that changes with every tap.

References
----------
P. W. Kassakian, "Convex approximation and optimization with applications in magnitude filter design and radiation
pattern synthesis", thesis, UC Berkeley (2006), for levels without their phases; O. Kirkeby and P. A. Nelson, "Digital
filter design for inversion problems in sound reproduction", JAES 47, 583-595 (1999), for the weight of effort;
L.-J. Brannmark, A. Bahne and A. Ahlen, "Compensation of loudspeaker-room responses in a robust MIMO control framework",
IEEE TASLP 21, 1201-1216 (2013), for several loudspeakers and spots (all from memory). The sum of terms is our own.
"""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.bass.aim import BassAim, band_grid_hz
from dolce.core.bass.lattice import FREQUENCY_HZ, TIME_S, in_time, spectra_of_taps, taps_slope, time_slope
from dolce.core.bass.takes import BassTakes
from dolce.core.dsp import crossover_sides, in_band
from dolce.core.seat_weights import spot_weights_of
from dolce.core.subs.field import smoothing

_BEYOND = 1.5  # times the hand-over: as far as levels count, with falling weight
_FULL_FROM, _FALLING_OCTAVES, _BELOW_DB = 0.85, 0.5, -12.0  # of the end of a main: full above, and so little below
_GAIN_MARGIN_DB = 0.15  # the limit is a penalty, which gives way a little
_LATE_FROM_S, _LATE_UNIT_S, _EARLY_UNIT_S = 0.05, 0.1, 0.01
_DB = 10 / np.log(10)


@dataclass(frozen=True, slots=True, kw_only=True)
class Priorities:
    """What counts how much, against a squared deviation of 1 dB."""

    early: float = 11.0
    late: float = 12.0
    hand_over: float = 9.0
    gain: float = 30.0  # far more gives way less, but the search then takes many times the steps
    output: float = 20.0
    effort: float = 0.3


class BassCost:
    """The cost of taps: deviation from the target at every spot, sound that comes early or late, effort, hand-over.

    Parameters
    ----------
    takes : BassTakes
    aim : BassAim
        For the same spots.
    weights : mapping of seat to weight, or None
    guessed : int
        How many spots at the end are guesses: output is judged without them.
    """

    def __init__(
        self,
        takes: BassTakes,
        aim: BassAim,
        priorities: Priorities,
        *,
        weights: Mapping[str, float] | None = None,
        guessed: int = 0,
    ) -> None:
        self.takes, self.aim, self.priorities = takes, aim, priorities
        share = spot_weights_of(takes.seat_of, weights, others=1.0)
        self.share = share / share.sum()
        real = (share > 0) & (np.arange(share.size) < share.size - guessed)
        top = _BEYOND * aim.hand_over_hz
        self.grid_hz = band_grid_hz(aim.low_hz, top)
        smooth = smoothing(FREQUENCY_HZ, self.grid_hz)
        self._used = np.flatnonzero(smooth.any(axis=1))
        self._smooth = smooth[self._used]
        falling = np.clip(np.log(top / self.grid_hz) / np.log(_BEYOND), 0, 1)
        self._counts = falling / falling.sum()
        self._target_db = np.interp(self.grid_hz, FREQUENCY_HZ, aim.target_db)
        inside = self.grid_hz <= aim.hand_over_hz
        self._output = np.outer(real / real.sum(), inside / inside.sum())
        level_db = aim.level_db
        target = 10 ** ((aim.target_db + level_db) / 20)
        self._low_pass = crossover_sides(aim.hand_over_hz, FREQUENCY_HZ)[1]
        pink = np.where(0.8 * aim.low_hz < FREQUENCY_HZ, 1 / np.sqrt(np.maximum(FREQUENCY_HZ, 1.0)), 0.0)
        self._pinked = (
            self._low_pass
            * pink
            / np.maximum(target, target.max() * 1e-2)
            * (1 - np.clip((FREQUENCY_HZ / aim.hand_over_hz - 1.2) / 0.6, 0, 1))
        )
        ahead = (aim.first_s[:, None] - TIME_S) / _EARLY_UNIT_S
        behind = (TIME_S - aim.first_s[:, None] - _LATE_FROM_S) / _LATE_UNIT_S
        self._early, self._late = np.clip(ahead, 0, None) ** 2, np.clip(behind, 0, 4.0) ** 2
        octave = in_band(FREQUENCY_HZ, (aim.hand_over_hz / 2, aim.hand_over_hz * 2))
        self._band = np.flatnonzero(octave)
        per_octave = 1 / FREQUENCY_HZ[self._band]
        looked = aim.channels_alone[:, self._band].any(axis=1)
        both = aim.channels_alone[:, self._band] * target[self._band]
        spots = self.share * looked
        scale = (spots / max(spots.sum(), 1e-12))[:, None] * (per_octave / per_octave.sum())
        self._sum = np.conj(aim.channels[:, self._band]) * scale / np.maximum(both, 1e-20) * 10 ** (level_db / 20)
        self._sizes = aim.channels_alone[:, self._band] * scale / np.maximum(both, 1e-20) * 10 ** (level_db / 20)
        power = np.abs(takes.heard) ** 2
        mean = np.einsum("s,ksn->kn", self.share, power)
        octaves = np.zeros(FREQUENCY_HZ.size)
        loud = in_band(FREQUENCY_HZ, (aim.low_hz, aim.hand_over_hz))
        octaves[loud] = 1 / FREQUENCY_HZ[loud]
        self._effort = mean / target**2 * (octaves / octaves.sum())
        highest = 10 ** ((aim.highest_gain_db - _GAIN_MARGIN_DB) / 20)
        # Where a main ends is read with some error: towards an octave below little may reach it, in any case.
        ends = np.array([0.0 if sub else end for sub, end in zip(takes.is_sub, takes.ends_hz, strict=True)])
        below = np.clip(
            np.log2(np.maximum(ends[:, None], 1e-3) * _FULL_FROM / np.maximum(FREQUENCY_HZ, 1.0)) / _FALLING_OCTAVES,
            0,
            1,
        )
        self._limit = highest * 10 ** (_BELOW_DB * below / 20)

    def filters(self, taps: NDArray[np.float64]) -> NDArray[np.complex128]:
        """What each loudspeaker's filter does, its high-pass included, shape (loudspeakers, frequencies)."""
        return spectra_of_taps(taps) * self.takes.protection

    def bass(self, filters: NDArray[np.complex128]) -> NDArray[np.complex128]:
        """The sum at every spot, shape (spots, frequencies)."""
        total = filters[0] * self.takes.heard[0]
        for row, heard in zip(filters[1:], self.takes.heard[1:], strict=True):
            total += row * heard
        return total

    def of_taps(self, flat: NDArray[np.float64], *, in_db: bool) -> tuple[float, NDArray[np.float64]]:
        """Cost and its slope, both with taps in a row; levels count as ratios at first and in dB in the end."""
        taps = flat.reshape(len(self.takes.names), -1)
        filters = self.filters(taps)
        bass = self.bass(filters)
        cost, slope = self._levels(bass, in_db=in_db)
        for part in (self._times, self._hand_over):
            more, of_more = part(bass)
            cost, slope = cost + more, slope + of_more
        turned = np.conj(slope)
        on_filters = np.array([np.conj(np.einsum("sn,sn->n", heard, turned)) for heard in self.takes.heard])
        # Limit and effort.
        size = np.abs(filters)
        above = np.maximum(size - self._limit, 0.0)
        cost += self.priorities.gain * float(np.sum(above**2)) + self.priorities.effort * float(
            np.sum(self._effort * size**2)
        )
        on_filters = on_filters + filters * (
            2 * self.priorities.gain * above / np.maximum(size, 1e-12) + 2 * self.priorities.effort * self._effort
        )
        return cost, taps_slope(np.conj(self.takes.protection) * on_filters, taps.shape[1]).ravel()

    def levels_db(self, bass: NDArray[np.complex128]) -> NDArray[np.float64]:
        """Levels over 1/12 octave on the grid, shape (spots, points)."""
        return _DB * np.log(np.maximum((np.abs(bass[:, self._used]) ** 2) @ self._smooth, 1e-20))

    def above_target_db(self, bass: NDArray[np.complex128]) -> float:
        """Mean over the given spots and the band."""
        return float(np.sum(self._output * (self.levels_db(bass) - self._target_db - self.aim.level_db)))

    def _levels(self, bass: NDArray, *, in_db: bool) -> tuple[float, NDArray]:
        part = bass[:, self._used]
        power = (part.real**2 + part.imag**2) @ self._smooth
        wanted_db = self._target_db + self.aim.level_db
        counts = self.share[:, None] * self._counts
        if in_db:
            off = _DB * np.log(np.maximum(power, 1e-20)) - wanted_db
            lost = min(0.0, float(np.sum(self._output * off)))
            cost = float(np.sum(counts * off**2)) + self.priorities.output * lost**2
            on_power = 2 * _DB * (counts * off + self.priorities.output * lost * self._output)
            on_power /= np.maximum(power, 1e-20)
        else:
            wanted = 10 ** (wanted_db / 20)
            ratio = np.sqrt(np.maximum(power, 1e-20)) / wanted
            cost = 75.0 * float(np.sum(counts * (ratio - 1) ** 2))
            on_power = 75.0 * counts * (ratio - 1) / (ratio * wanted**2)
        slope = np.zeros_like(bass)
        slope[:, self._used] = 2 * part * (on_power @ self._smooth.T)
        return cost, slope

    def _times(self, bass: NDArray) -> tuple[float, NDArray]:
        cost, slope = 0.0, np.zeros_like(bass)
        for shaping, when, priority in (
            (self._low_pass, self._early, self.priorities.early),
            (self._pinked, self._late, self.priorities.late),
        ):
            sound = in_time(bass * shaping)
            energy = np.maximum(np.sum(sound**2, axis=1, keepdims=True), 1e-30)
            ratio = np.sum(when * sound**2, axis=1, keepdims=True) / energy
            cost += priority * float(self.share @ ratio[:, 0])
            slope += np.conj(shaping) * time_slope(priority * self.share[:, None] * 2 * sound * (when - ratio) / energy)
        return cost, slope

    def _hand_over(self, bass: NDArray) -> tuple[float, NDArray]:
        low = self._low_pass[self._band]
        part = bass[:, self._band] * low
        size = np.abs(part)
        cost = self.priorities.hand_over * float(np.sum(self._sizes * size - (self._sum * part).real))
        slope = np.zeros_like(bass)
        slope[:, self._band] = (
            self.priorities.hand_over
            * np.conj(low)
            * (self._sizes * part / np.maximum(size, 1e-12) - np.conj(self._sum))
        )
        return cost, slope
