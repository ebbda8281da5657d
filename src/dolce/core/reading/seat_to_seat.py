"""The bass from seat to seat: each sub, all of them as they are, and the main channels."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delay_response, energy_mean_db, in_band, mid_bands, power_db, smoothed_power
from dolce.core.response import ImpulseResponse, average_over_spots, mean_spread_db

BASS_HZ = mid_bands(per_octave=24, from_hz=18, to_hz=220)
BAND_HZ = (20.0, 120.0)
_PER_OCTAVE = 12.0

Spectrum = tuple[NDArray[np.float64], NDArray[np.complex128]]


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


def bass_spectrum(response: ImpulseResponse) -> Spectrum:
    """Frequencies of the bass in Hz, and the complex response there, phases from the moment the stimulus left."""
    size = scipy.fft.next_fast_len(2 * response.sample.size, real=True)
    frequency = scipy.fft.rfftfreq(size, 1 / response.sample_rate_hz)
    low = in_band(frequency, (10, 300))
    spectrum = scipy.fft.rfft(response.sample, size)[low]
    return frequency[low], spectrum * delay_response(frequency[low], response.start_s)


def seat_row(
    together: tuple[str, ...], spectra: Mapping[str, Mapping[int, Spectrum]], seats: Sequence[tuple[str, Sequence[int]]]
) -> SeatRow | None:
    """Channels that sound at once, over seats that are told by name and spots; None where a seat lacks one of them.

    A seat is the energy average of its spots that have all of them; levels over 1/12 octave.

    Parameters
    ----------
    spectra : by channel and spot, as `bass_spectrum` gives them

    References
    ----------
    T. Welti and A. Devantier, "Low-frequency optimization using multiple subwoofers", JAES 54, 347-364 (2006).
    """
    levels = []
    for _, spots in seats:
        here = [spot for spot in spots if all(spot in spectra.get(channel, {}) for channel in together)]
        if not here:
            return None
        levels.append(energy_mean_db(np.array([_level_db([spectra[c][spot] for c in together]) for spot in here])))
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
        worst_seat=seats[worst][0],
        worst_db=float(rms[worst]),
        dip_db=float(off.min()),
        dip_hz=float(BASS_HZ[inside][at]),
        dip_seat=seats[int(lowest)][0],
        by_seat_db=by_seat,
    )


def _level_db(parts: Sequence[Spectrum]) -> NDArray:
    """Level of a sum, over 1/12 octave."""
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
