"""The bass from seat to seat: each sub, all of them as they are, and the mains."""

from dataclasses import dataclass
from itertools import combinations

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delay_response, energy_mean_db, in_band, mid_bands, power_db, smoothed_power
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.response import ImpulseResponse, average_over_spots, mean_spread_db
from dolce.core.room import SUB_CODES
from dolce.store import UnitOfWork

BASS_HZ = mid_bands(per_octave=24, from_hz=18, to_hz=220)
BAND_HZ = (20.0, 120.0)
_PER_OCTAVE = 12.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatRow:
    """One feed, or several together, over the seats.

    Attributes
    ----------
    channels : what sounds; the code of a row of several channels where that was taken
    computed : whether it is the sum of takes of each alone, by level and phase
    spread_db : mean standard deviation over the seats, 20-120 Hz
    worst_seat, worst_db : the seat that lies furthest from the mean of all, as an RMS over 20-120 Hz
    dip_db, dip_hz, dip_seat : the deepest dip against the mean of all seats
    by_seat_db : ndarray, shape (seats, points)
    """

    channels: tuple[str, ...]
    computed: bool
    spread_db: float
    worst_seat: str
    worst_db: float
    dip_db: float
    dip_hz: float
    dip_seat: str
    by_seat_db: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatTable:
    """All rows of one round; `without` names feeds that lack takes at some seats."""

    round: Round
    seats: tuple[str, ...]
    rows: tuple[SeatRow, ...]
    without: tuple[str, ...]


def seat_table(work: UnitOfWork, job: Job, found: Round, channels: tuple[str, ...]) -> SeatTable:
    """The bass of the chosen feeds by seat, and of all chosen subs together.

    A seat is the energy average of its spots; levels over 1/12 octave. Spread as in T. Welti and A. Devantier, JAES 54,
    347-364 (2006).
    """
    seats = [seat for seat in job.plan.seats if seat.weight > 0 and job.plan.spots_of(seat.id)]
    spot_seat = {spot.id: seat.id for seat in seats for spot in job.plan.spots_of(seat.id)}
    takes = [
        take
        for take in work.takes.latest(found.id)
        if take.usable and take.has_response and take.spot_id in spot_seat and take.channel in channels
    ]
    spectra = _spectra(work, takes)
    by_channel: dict[str, dict[int, tuple[NDArray, NDArray]]] = {}
    for take in takes:
        if take.id in spectra:
            by_channel.setdefault(take.channel, {})[take.spot_id] = spectra[take.id]
    rows, without = [], []
    subs = [channel for channel in channels if channel in SUB_CODES and by_channel.get(channel)]
    sets = [some for count in range(1, len(subs) + 1) for some in combinations(subs, count)]
    for together in [*sets, *((c,) for c in channels if c not in SUB_CODES)]:
        row = _row(together, by_channel, [(seat.id, seat.name) for seat in seats], spot_seat)
        if row is None:
            without += [c for c in together if len(together) == 1]
        else:
            rows.append(row)
    return SeatTable(round=found, seats=tuple(seat.name for seat in seats), rows=tuple(rows), without=tuple(without))


def _spectra(work: UnitOfWork, takes: list[TakeRecord]) -> dict[int, tuple[NDArray, NDArray]]:
    """Complex spectra of the bass by take, phases from the moment the stimulus left; with their frequencies."""
    out = {}
    for take_id, response in work.takes.responses([take.id for take in takes]):
        out[take_id] = _bass(response)
    return out


def _bass(response: ImpulseResponse) -> tuple[NDArray, NDArray]:
    size = scipy.fft.next_fast_len(2 * response.sample.size, real=True)
    frequency = scipy.fft.rfftfreq(size, 1 / response.sample_rate_hz)
    low = in_band(frequency, (10, 300))
    spectrum = scipy.fft.rfft(response.sample, size)[low]
    return frequency[low], spectrum * delay_response(frequency[low], response.start_s)


def _row(
    together: tuple[str, ...], by_channel: dict, seats: list[tuple[int, str]], spot_seat: dict[int, int]
) -> SeatRow | None:
    levels = []
    for seat, _ in seats:
        spots = [
            spot
            for spot, of in spot_seat.items()
            if of == seat and all(spot in by_channel.get(channel, {}) for channel in together)
        ]
        if not spots:
            return None
        at_spots = [_level(together, by_channel, spot) for spot in spots]
        levels.append(energy_mean_db(np.array(at_spots)))
    by_seat = np.array(levels)
    inside = in_band(BASS_HZ, BAND_HZ)
    off = (by_seat - by_seat.mean(axis=0))[:, inside]
    rms = np.sqrt(np.mean(off**2, axis=1))
    worst = int(np.argmax(rms))
    lowest, at = np.unravel_index(int(np.argmin(off)), off.shape)
    return SeatRow(
        channels=together,
        computed=len(together) > 1,
        spread_db=mean_spread_db(BASS_HZ, average_over_spots(by_seat), band_hz=BAND_HZ),
        worst_seat=seats[worst][1],
        worst_db=float(rms[worst]),
        dip_db=float(off.min()),
        dip_hz=float(BASS_HZ[inside][at]),
        dip_seat=seats[int(lowest)][1],
        by_seat_db=by_seat,
    )


def _level(together: tuple[str, ...], by_channel: dict, spot: int) -> NDArray:
    parts = [by_channel[channel][spot] for channel in together]
    frequency = parts[0][0]
    total = sum(
        spectrum if f.size == frequency.size and f[0] == frequency[0] else _on(frequency, f, spectrum)
        for f, spectrum in parts
    )
    return power_db(smoothed_power(frequency, np.abs(total) ** 2, at_hz=BASS_HZ, per_octave=_PER_OCTAVE))


def _on(at_hz: NDArray, frequency: NDArray, spectrum: NDArray) -> NDArray:
    """Between bins, for takes of another length or rate: level and unwrapped phase straight between them."""
    return np.interp(at_hz, frequency, np.abs(spectrum)) * np.exp(
        1j * np.interp(at_hz, frequency, np.unwrap(np.angle(spectrum)))
    )
