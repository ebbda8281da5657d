"""What takes tell of the loudspeakers that may play the common bass, at every spot."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.bass.lattice import FREQUENCY_HZ, spectrum_of
from dolce.core.correction.low_extension import low_frequency_extension_hz
from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.response import ImpulseResponse

_PROTECTION_ORDER = 4  # below its end: 24 dB per octave, so that an octave below nothing of weight reaches it
_LOOKED_HZ = (10.0, 238.0)
_MIRRORED_FROM = 3  # spots of a seat
_LOWEST_END_HZ = 22.0  # a room can lift a main so that it seems to reach lower than any does


@dataclass(frozen=True, slots=True, kw_only=True)
class BassTakes:
    """Loudspeakers that play the common bass, heard at spots.

    Attributes
    ----------
    names : tuple of str
    is_sub : tuple of bool
    ends_hz : tuple of float
        Where each loudspeaker is 10 dB below its middle.
    seat_of : tuple of str
        Seat of each spot.
    protection : complex, shape (loudspeakers, frequencies)
        The high-pass that keeps each from what it can't play; all ones for a sub.
    heard : complex, shape (loudspeakers, spots, frequencies)
        Responses on the lattice, as they are.
    """

    names: tuple[str, ...]
    is_sub: tuple[bool, ...]
    ends_hz: tuple[float, ...]
    seat_of: tuple[str, ...]
    protection: NDArray[np.complex128]
    heard: NDArray[np.complex128]

    @classmethod
    def of(
        cls,
        responses: Mapping[str, Sequence[ImpulseResponse]],
        *,
        subs: Sequence[str],
        seat_of: Sequence[str],
        ends_hz: Mapping[str, float] | None = None,
    ) -> "BassTakes":
        """Of the responses of each loudspeaker at all spots.

        `ends_hz` tells where loudspeakers end that are known; of others it is read from the takes.
        """
        heard = np.array([[spectrum_of(response) for response in row] for row in responses.values()])
        return cls.of_spectra(tuple(responses), heard, subs=subs, seat_of=seat_of, ends_hz=ends_hz)

    @classmethod
    def of_spectra(
        cls,
        names: Sequence[str],
        heard: NDArray[np.complex128],
        *,
        subs: Sequence[str],
        seat_of: Sequence[str],
        ends_hz: Mapping[str, float] | None = None,
    ) -> "BassTakes":
        """Of responses on the lattice, shape (loudspeakers, spots, frequencies)."""
        ends = tuple(
            (ends_hz or {}).get(name) or max(_LOWEST_END_HZ, _end_of(rows, is_sub=name in subs))
            for name, rows in zip(names, heard, strict=True)
        )
        protection = np.array(
            [
                np.ones(FREQUENCY_HZ.size) if name in subs else high_pass(end)
                for name, end in zip(names, ends, strict=True)
            ]
        )
        return cls(
            names=tuple(names),
            is_sub=tuple(name in subs for name in names),
            ends_hz=ends,
            seat_of=tuple(seat_of),
            protection=protection,
            heard=heard,
        )

    def at_spots(self, spots: Sequence[int]) -> "BassTakes":
        """The same at some of the spots."""
        return replace(self, seat_of=tuple(self.seat_of[k] for k in spots), heard=self.heard[:, list(spots)])

    def of_loudspeakers(self, taken: Sequence[bool]) -> "BassTakes":
        """The same of some loudspeakers."""
        rows = [k for k, takes_part in enumerate(taken) if takes_part]
        return replace(
            self,
            names=tuple(self.names[k] for k in rows),
            is_sub=tuple(self.is_sub[k] for k in rows),
            ends_hz=tuple(self.ends_hz[k] for k in rows),
            protection=self.protection[rows],
            heard=self.heard[rows],
        )

    def mirrored(self) -> tuple["BassTakes", list[int]]:
        """With a guess of as many spots that were not taken, and the spot that each of them is guessed from.

        For long waves the sound field is nearly linear in place, so a spot mirrored at the middle of its seat hears
        twice the seat's mean less what the spot hears. Of seats with fewer than three spots nothing is guessed.
        """
        guesses, of = [self.heard], []
        for seat in dict.fromkeys(self.seat_of):
            of_seat = [k for k, other in enumerate(self.seat_of) if other == seat]
            if len(of_seat) >= _MIRRORED_FROM:
                guesses.append(2 * self.heard[:, of_seat].mean(axis=1, keepdims=True) - self.heard[:, of_seat])
                of += of_seat
        seats = (*self.seat_of, *(self.seat_of[k] for k in of))
        return replace(self, seat_of=seats, heard=np.concatenate(guesses, axis=1)), of


def high_pass(end_hz: float) -> NDArray[np.complex128]:
    """Butterworth of 24 dB per octave at the end of a loudspeaker, shape (frequencies,)."""
    b, a = scipy.signal.butter(_PROTECTION_ORDER, 2 * np.pi * end_hz, "high", analog=True)
    return scipy.signal.freqs(b, a, 2 * np.pi * FREQUENCY_HZ)[1]


def protected(sample: NDArray[np.float64], *, end_hz: float, sample_rate_hz: int) -> NDArray[np.float64]:
    """A filter behind the same high-pass, of the same length."""
    sections = scipy.signal.butter(_PROTECTION_ORDER, end_hz, "high", fs=sample_rate_hz, output="sos")
    return scipy.signal.sosfilt(sections, sample)


def _end_of(heard: NDArray[np.complex128], *, is_sub: bool) -> float:
    looked = in_band(FREQUENCY_HZ, _LOOKED_HZ)
    level = energy_mean_db(20 * np.log10(np.maximum(np.abs(heard[:, looked]), 1e-10)))
    return low_frequency_extension_hz(FREQUENCY_HZ[looked], level, is_sub=is_sub)
