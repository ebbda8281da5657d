"""What may go wrong with filters of the common bass: seats around a pressure node, and errors of life."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from dolce.core.bass.figures import BassMeasure
from dolce.core.bass.lattice import FREQUENCY_HZ
from dolce.core.bass.takes import BassTakes
from dolce.core.dsp import mid_bands, smoothed_power

_BANDS_PER_OCTAVE, _FROM_HZ = 6, 25.0
_CHANGES_SIGN = 0.35  # of 1 where all spots of a seat hear the same at the same time: below, some hear the opposite
_OPPOSITE = -0.9  # of -1 where two seats hear every loudspeaker with opposite signs
_LEAST_LOUDSPEAKERS = 3
_LOUDER_DB, _FASTER = 1.0, 0.005


@dataclass(frozen=True, slots=True, kw_only=True)
class PressureNode:
    """Where the bass changes sign at a frequency, so that it is quiet between: within a seat, or between two.

    Within a seat `share` is the energy of the mean over its spots against the mean of their energies there. Between
    `seat` and `other` it is how alike all loudspeakers are heard, from -1, with opposite signs, to 1.
    """

    seat: str
    at_hz: float
    share: float
    other: str = ""


def pressure_nodes(seat_of: Sequence[str], bass: NDArray[np.complex128], *, hand_over_hz: float) -> list[PressureNode]:
    """Seats around a pressure node, each where that is plainest.

    Spots of a seat lie well within a wavelength, so they hear bass with the same sign, unless a node of the room goes
    between them. There levels can be made alike with opposite signs, and what lies between hears little.

    Parameters
    ----------
    seat_of : sequence of str
        Seat of each spot.
    bass : complex ndarray, shape (spots, frequencies)
        On the lattice.
    """
    at_hz = mid_bands(per_octave=_BANDS_PER_OCTAVE, from_hz=_FROM_HZ, to_hz=hand_over_hz)
    found = []
    for seat in dict.fromkeys(seat_of):
        rows = [k for k, other in enumerate(seat_of) if other == seat]
        if len(rows) < 2:
            continue
        together, alone = (
            smoothed_power(FREQUENCY_HZ, power, at_hz=at_hz, per_octave=_BANDS_PER_OCTAVE)
            for power in (np.abs(bass[rows].mean(axis=0)) ** 2, (np.abs(bass[rows]) ** 2).mean(axis=0))
        )
        share = together / np.maximum(alone, 1e-20)
        plainest = int(np.argmin(share))
        if share[plainest] < _CHANGES_SIGN:
            found.append(PressureNode(seat=seat, at_hz=float(at_hz[plainest]), share=float(share[plainest])))
    return found


def nodes_between(takes: BassTakes, *, hand_over_hz: float) -> list[PressureNode]:
    """Pairs of seats with a node of the room between them, at a frequency at which one mode is nearly all there is.

    Then whichever loudspeaker plays is heard with one sign at one seat and the other at the other, and filters can
    make both alike, but not what lies between. Fewer than three loudspeakers can't tell that from sound on its way.
    """
    if len(takes.names) < _LEAST_LOUDSPEAKERS:
        return []
    at_hz = mid_bands(per_octave=_BANDS_PER_OCTAVE, from_hz=_FROM_HZ, to_hz=hand_over_hz)
    seats = list(dict.fromkeys(takes.seat_of))
    heard = [
        takes.heard[:, [k for k, other in enumerate(takes.seat_of) if other == seat]].mean(axis=1) for seat in seats
    ]

    def of_bands(spectrum: NDArray) -> NDArray:
        return smoothed_power(FREQUENCY_HZ, spectrum, at_hz=at_hz, per_octave=_BANDS_PER_OCTAVE)

    energy = [of_bands((np.abs(rows) ** 2).sum(axis=0)) for rows in heard]
    found = []
    for first, second in combinations(range(len(seats)), 2):
        common = of_bands((heard[first] * np.conj(heard[second])).real.sum(axis=0))
        alike = common / np.sqrt(np.maximum(energy[first] * energy[second], 1e-30))
        plainest = int(np.argmin(alike))
        if alike[plainest] < _OPPOSITE:
            found.append(
                PressureNode(
                    seat=seats[first], other=seats[second], at_hz=float(at_hz[plainest]), share=float(alike[plainest])
                )
            )
    return found


@dataclass(frozen=True, slots=True, kw_only=True)
class ErrorBudget:
    """Seat-to-seat variation in dB with filters as found, and with something otherwise than when it was measured.

    Attributes
    ----------
    as_found_db : float
    louder_db : mapping of loudspeaker to dB
        That one 1 dB louder.
    warmer_db : float
        Sound 0.5 % faster, as some 3 degrees warmer.
    """

    as_found_db: float
    louder_db: Mapping[str, float]
    warmer_db: float


def error_budget(measure: BassMeasure, takes: BassTakes, filters: NDArray[np.complex128]) -> ErrorBudget:
    """At the spots that were taken.

    Parameters
    ----------
    measure : BassMeasure
        At these spots.
    filters : complex ndarray, shape (loudspeakers, frequencies)
        High-passes included.
    """
    parts = filters[:, None] * takes.heard

    def spread_db(bass: NDArray[np.complex128]) -> float:
        return measure.spread_db(measure.levels_db(bass))

    # With sound faster by a part, the room does at f what it did at f less that part; filters stay where they are.
    slower_hz = FREQUENCY_HZ / (1 + _FASTER)
    moved = np.array([[_read_at(slower_hz, row) for row in of_one] for of_one in takes.heard])
    total, more = parts.sum(axis=0), 10 ** (_LOUDER_DB / 20) - 1
    return ErrorBudget(
        as_found_db=spread_db(total),
        louder_db={name: spread_db(total + more * part) for name, part in zip(takes.names, parts, strict=True)},
        warmer_db=spread_db(np.einsum("kn,ksn->sn", filters, moved)),
    )


def _read_at(at_hz: NDArray[np.float64], spectrum: NDArray[np.complex128]) -> NDArray[np.complex128]:
    return np.interp(at_hz, FREQUENCY_HZ, spectrum.real) + 1j * np.interp(at_hz, FREQUENCY_HZ, spectrum.imag)
