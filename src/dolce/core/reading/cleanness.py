"""How clean a recording is: harmonics of the sweep, and the noise under it."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import in_band, power_db, smoothed_power
from dolce.core.levels import band_filters, exact_mid_hz
from dolce.core.response import Deconvolver, ImpulseResponse, transformed
from dolce.core.signals import harmonic_offset_s
from dolce.errors import InvalidValue

HARMONICS = (2, 3, 4, 5)
_PER_OCTAVE = 12.0
_DIED_AWAY_S, _LEAST_QUIET_S = 0.45, 0.2
_PLAYS_DB = 10.0  # below the median band: the same 10 dB as the end of the effective range (IEC 60268-5)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Distortion:
    """Harmonics against the frequency that made them, in dB relative to its own level there.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
        Of the fundamental.
    harmonic_db : dict of number to ndarray, shape (points,)
        NaN where a harmonic lies above what was recorded.
    total_db : ndarray, shape (points,)
        Power sum of the harmonics that are known.
    noise_db : ndarray, shape (points,)
        What noise alone would read as a second harmonic.
    """

    frequency_hz: NDArray[np.float64]
    harmonic_db: dict[int, NDArray[np.float64]]
    total_db: NDArray[np.float64]
    noise_db: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class NoiseUnder:
    """Level of the response and of the noise under it in 1/3-octave bands, both as levels on Read, shape (bands,)."""

    nominal_hz: tuple[float, ...]
    level_db: NDArray[np.float64]
    noise_db: NDArray[np.float64]

    def least_above(self, to_hz: float) -> tuple[float, float]:
        """Where the response is least above the noise, in Hz, and by how much in dB, from 31.5 Hz to 16 kHz at most.

        Only where the loudspeaker plays: below its end the noise of the room says nothing of the take.
        """
        bands = np.array(self.nominal_hz)
        inside = in_band(bands, (31.5, min(to_hz, 16_000)))
        inside &= self.level_db > np.median(self.level_db[inside]) - _PLAYS_DB
        above = (self.level_db - self.noise_db)[inside]
        return float(bands[inside][np.argmin(above)]), float(above.min())


def distortion_of(
    recording: NDArray[np.float64], *, deconvolver: Deconvolver, at_hz: NDArray, arrival_s: float
) -> Distortion:
    """Second to fifth harmonic of a recorded logarithmic sweep.

    The response of harmonic k stands L ln k ahead of the direct sound; its level at k f is that harmonic of a tone at
    f. Each is cut out up to half-way to its neighbours, so of what rings longer a part is missing. The noise is what a
    window like the second's lets pass.

    Raises
    ------
    InvalidValue
        If the sweep is too short to part harmonics (under 1 s), or the recording ends with it.

    References
    ----------
    A. Farina, AES 108th Convention (2000).
    """
    low_hz, high_hz = deconvolver.band_hz
    if deconvolver.sweep_s < 1.0:
        raise InvalidValue(
            f"a sweep of {deconvolver.sweep_s:g} s does not part harmonics.",
            where="sweep length",
            remedy="Take sweeps of 1 s or more.",
        )

    def ahead(number: int) -> float:
        return harmonic_offset_s(number, start_hz=low_hz, stop_hz=high_hz, duration_s=deconvolver.sweep_s)

    whole = deconvolver.impulse(deconvolver.spectrum(recording)[1])
    fundamental = _level(whole, arrival_s, ahead(2) / 4, 0.5, at_hz)
    harmonics = {}
    for number in HARMONICS:
        before, after = (ahead(number + 1) - ahead(number)) / 3, (ahead(number) - ahead(number - 1)) * 0.45
        found = _level(whole, arrival_s - ahead(number), before, after, number * at_hz) - fundamental
        harmonics[number] = np.where(number * at_hz < 0.98 * high_hz, found, np.nan)
    noise = power_db(
        _held_s((ahead(3) - ahead(2)) / 3, ahead(2) * 0.45)
        * noise_power_per_s(recording, deconvolver=deconvolver, arrival_s=arrival_s, at_hz=2 * at_hz)
    )
    known = np.nansum([10 ** (level / 10) for level in harmonics.values()], axis=0)
    return Distortion(frequency_hz=at_hz, harmonic_db=harmonics, total_db=power_db(known), noise_db=noise - fundamental)


def noise_under(
    recording: NDArray[np.float64],
    response: ImpulseResponse,
    *,
    deconvolver: Deconvolver,
    nominal_hz: tuple[float, ...],
    arrival_s: float,
) -> NoiseUnder:
    """A response and the noise that its window lets pass, in 1/3-octave bands of IEC 61260-1.

    Raises
    ------
    InvalidValue
        If the recording ends with the sweep.
    """
    per_s = noise_power_per_s(recording, deconvolver=deconvolver, arrival_s=arrival_s, at_hz=exact_mid_hz(nominal_hz))
    kept_s = response.sample.size / response.sample_rate_hz
    return NoiseUnder(nominal_hz=nominal_hz, level_db=_bands(response, nominal_hz), noise_db=power_db(per_s * kept_s))


def noise_power_per_s(
    recording: NDArray[np.float64], *, deconvolver: Deconvolver, arrival_s: float, at_hz: NDArray
) -> NDArray[np.float64]:
    """Noise in a response, for each second of its window, as |H|^2; shape (wanted,).

    Read from the silence behind the sweep, over a third of an octave: what was played low has died away long before,
    and the top of the sweep, last of all, dies away fast. In that silence there are few lines to a low third of an
    octave, so it scatters by some dB there.
    """
    rate = deconvolver.sample_rate_hz
    quiet = recording[round((arrival_s + deconvolver.stimulus_s + _DIED_AWAY_S) * rate) :]
    if quiet.size < _LEAST_QUIET_S * rate:
        raise InvalidValue(
            "too little silence was recorded behind the sweep to tell the noise.",
            where="noise",
            remedy="Record at least a second after the sweep.",
        )
    frequency, density = scipy.signal.welch(quiet, rate, nperseg=min(quiet.size, round(0.25 * rate)))
    gain = deconvolver.noise_gain(np.minimum(at_hz, 0.49 * rate))
    at = np.clip(at_hz, 2 * frequency[1], 0.9 * frequency[-1])
    return smoothed_power(frequency[1:], density[1:], at_hz=at, per_octave=3) / 2 * rate**2 * gain


def _bands(response: ImpulseResponse, nominal_hz: tuple[float, ...]) -> NDArray:
    """Mean |H|^2 over each band, in dB."""
    frequency, spectrum = transformed(response)
    power = spectrum[1:].real ** 2 + spectrum[1:].imag ** 2
    weights = band_filters(frequency[1:], exact_mid_hz(nominal_hz), per_octave=3)
    return power_db(weights @ power / weights.sum(axis=1))


def _held_s(before_s: float, after_s: float) -> float:
    """Length of an even window that lets as much noise pass as `ImpulseResponse.around` does."""
    return (1 + 3 / 8) / 2 * before_s + (4 + 3 / 8) / 5 * after_s


def _level(whole: ImpulseResponse, at_s: float, before_s: float, after_s: float, at_hz: NDArray) -> NDArray:
    """Level over 1/12 octave of a part of the response."""
    part = whole.around(at_s, before_s=before_s, after_s=after_s)
    size = scipy.fft.next_fast_len(max(part.sample.size, whole.sample_rate_hz), real=True)
    power = np.abs(scipy.fft.rfft(part.sample, size)) ** 2
    frequency = scipy.fft.rfftfreq(size, 1 / whole.sample_rate_hz)
    at = np.clip(at_hz, frequency[1] * 1.01, frequency[-1] * 0.97)
    return power_db(smoothed_power(frequency[1:], power[1:], at_hz=at, per_octave=_PER_OCTAVE))
