"""What the common bass is to be: its level at every spot, when it may sound, and the main channels it hands over to."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.bass.lattice import FREQUENCY_HZ, spectrum_of
from dolce.core.bass.takes import BassTakes
from dolce.core.dsp import crossover_sides, delay_response
from dolce.core.response import ImpulseResponse
from dolce.core.seat_weights import spot_weights_of
from dolce.core.subs.field import smoothing

LOWEST_HZ = 20.0
_POINTS_PER_OCTAVE = 24.0
_ROLLED_OFF_DB, _FULL_HZ = 10.0, (50.0, 100.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class MainChannel:
    """A main channel above the hand-over, as it will play.

    Attributes
    ----------
    spectra : complex, shape (spots, frequencies)
        On the lattice, with its trim, polarity and delay, that of all main channels for the bass included; without
        its high-pass.
    level_db : float
        Its level in the midrange so, which is brought to that of the target.
    arrival_s : ndarray, shape (spots,)
        Of its direct sound at every spot, with the delays.
    """

    spectra: NDArray[np.complex128]
    level_db: float
    arrival_s: NDArray[np.float64]

    @classmethod
    def of(
        cls,
        responses: Sequence[ImpulseResponse],
        *,
        level_db: float,
        delay_s: float,
        polarity: int,
        arrival_s: Sequence[float],
    ) -> "MainChannel":
        """Of responses as taken, their level and arrivals, and what the channel gets."""
        turn = polarity * delay_response(FREQUENCY_HZ, delay_s)
        return cls(
            spectra=np.array([spectrum_of(response) for response in responses]) * turn,
            level_db=level_db,
            arrival_s=np.asarray(arrival_s) + delay_s,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class BassAim:
    """What the common bass is to be at given spots.

    Attributes
    ----------
    target_db : ndarray, shape (frequencies,)
        On the lattice, relative.
    level_db : float
        What is added to it: the level that loses as much output as may be lost.
    low_hz, hand_over_hz : float
        Where levels begin to count, and where main channels take over.
    highest_gain_db : float
        Of any filter at any frequency.
    first_s : ndarray, shape (spots,)
        When the first main channel arrives at each spot, with the delays of all.
    channels, channels_alone : complex and float, shape (spots, frequencies)
        Sum of main channels at each spot behind their high-pass with their delays, at the level of the target, and the
        sum of their magnitudes; zero where the hand-over is not looked at.
    """

    target_db: NDArray[np.float64]
    level_db: float
    low_hz: float
    hand_over_hz: float
    highest_gain_db: float
    first_s: NDArray[np.float64]
    channels: NDArray[np.complex128]
    channels_alone: NDArray[np.float64]

    @classmethod
    def of(
        cls,
        takes: BassTakes,
        main_channels: Sequence[MainChannel],
        *,
        target_db: NDArray[np.float64],
        hand_over_hz: float,
        max_loss_db: float,
        highest_gain_db: float = 0.0,
        main_seat: str,
        weights: Mapping[str, float] | None = None,
    ) -> "BassAim":
        """For the spots of takes; the hand-over is looked at on the main seat."""
        high = crossover_sides(hand_over_hz, FREQUENCY_HZ)[0]
        shown = np.array([seat == main_seat for seat in takes.seat_of])[:, None]
        played = np.array([channel.spectra * (high * 10 ** (-channel.level_db / 20)) for channel in main_channels])
        first_s = np.min([channel.arrival_s for channel in main_channels], axis=0)
        return cls(
            target_db=target_db,
            level_db=output_of_subs_db(takes, target_db, hand_over_hz=hand_over_hz, weights=weights) - max_loss_db,
            low_hz=lowest_of(target_db),
            hand_over_hz=hand_over_hz,
            highest_gain_db=highest_gain_db,
            first_s=first_s,
            channels=played.sum(axis=0) * shown,
            channels_alone=np.abs(played).sum(axis=0) * shown,
        )

    def at_spots(self, spots: Sequence[int]) -> "BassAim":
        """The same for some of the spots."""
        rows = list(spots)
        return replace(
            self, first_s=self.first_s[rows], channels=self.channels[rows], channels_alone=self.channels_alone[rows]
        )

    def with_guesses(self, of: Sequence[int]) -> "BassAim":
        """The same, and for spots that are guessed from others: as early as there, and no hand-over looked at."""
        none = np.zeros((len(of), FREQUENCY_HZ.size))
        return replace(
            self,
            first_s=np.concatenate([self.first_s, self.first_s[list(of)]]),
            channels=np.concatenate([self.channels, none]),
            channels_alone=np.concatenate([self.channels_alone, none]),
        )


def lowest_of(target_db: NDArray[np.float64]) -> float:
    """Where levels begin to count: 20 Hz, or where the target has fallen by 10 dB."""
    full = float(np.interp(_FULL_HZ, FREQUENCY_HZ, target_db).mean())
    counts = np.flatnonzero((target_db > full - _ROLLED_OFF_DB) & (_FULL_HZ[0] >= FREQUENCY_HZ))
    return max(LOWEST_HZ, float(FREQUENCY_HZ[counts[0]]) if counts.size else _FULL_HZ[0])


def band_grid_hz(low_hz: float, high_hz: float, *, per_octave: float = _POINTS_PER_OCTAVE) -> NDArray[np.float64]:
    """Points at which levels are looked at."""
    return low_hz * 2 ** (np.arange(int(per_octave * np.log2(high_hz / low_hz)) + 1) / per_octave)


def output_of_subs_db(
    takes: BassTakes, target_db: NDArray[np.float64], *, hand_over_hz: float, weights: Mapping[str, float] | None
) -> float:
    """Mean level of the incoherent sum of the subs at 0 dB each above the target, over band and spots that count."""
    grid = band_grid_hz(lowest_of(target_db), hand_over_hz)
    power = (np.abs(takes.heard[list(takes.is_sub)]) ** 2).sum(axis=0)
    level = 10 * np.log10(np.maximum(power @ smoothing(FREQUENCY_HZ, grid), 1e-20))
    counts = spot_weights_of(takes.seat_of, weights, others=1.0) > 0
    return float((level - np.interp(grid, FREQUENCY_HZ, target_db))[counts].mean())
