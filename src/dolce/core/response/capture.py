"""One recording, analysed: response, arrival, quality."""

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import peak_dbfs, power_db
from dolce.core.response.arrival import Arrival, find_arrival
from dolce.core.response.caution import Caution
from dolce.core.response.deconvolution import Deconvolver
from dolce.core.response.hum import hum_in, may_hum
from dolce.core.response.impulse import ImpulseResponse
from dolce.core.response.microphone import MicrophoneCurve
from dolce.core.response.noise_window import noise_behind, windowed_by_noise
from dolce.core.response.quality import NOISY_BELOW_DB, Quality, clipped_samples
from dolce.core.response.sub_arrival import sub_arrival
from dolce.errors import InvalidValue

AFTER_S = 0.9
_LEAST_SIGNAL_TO_NOISE_DB = 6.0  # another sweep of the same length explains up to 5 dB of a recording
_CUT_OFF_S = 0.01  # a recording may begin or end this much inside the sweep, within its fades
SUB_TOP_HZ = 250.0  # what a sub plays lies below
_BASS_ALONE_DB = 15.0
_HUM_MATTERS_BELOW_DB = 60.0
NOISE_MATTERS_BELOW_DB = 28.0  # above it a window per octave takes more off the ends than off the noise
_MOST_BEFORE_S = 0.4  # a response that is band-limited at 10 Hz rings before its start: keep that much


def kept_before_s(sweep_s: float) -> float:
    """How much is kept ahead of the arrival: up to 0.4 s, less for a short sweep, whose harmonics come closer.

    The second harmonic of a sweep over eleven octaves comes 9 % of its length early; 8 % are kept.
    """
    return min(_MOST_BEFORE_S, 0.08 * sweep_s)


class SweepDrowned(InvalidValue):
    """A recording in which the stimulus is not found: another one is needed."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Capture:
    """What one recording of a known stimulus tells.

    Attributes
    ----------
    response : ImpulseResponse
        From up to 0.4 s before the arrival to 0.9 s after it, ends faded; the microphone's curve taken out.
    arrival : Arrival
    quality : Quality
    cautions : tuple of Caution
    """

    response: ImpulseResponse
    arrival: Arrival
    quality: Quality
    cautions: tuple[Caution, ...] = ()

    def later(self, by_s: float) -> "Capture":
        """The same where the clock starts earlier by some time."""
        return replace(
            self,
            response=replace(self.response, start_s=self.response.start_s + by_s),
            arrival=replace(self.arrival, time_s=self.arrival.time_s + by_s),
        )


def analyse_recording(
    recording: NDArray[np.float64],
    *,
    deconvolver: Deconvolver,
    microphone: MicrophoneCurve | None = None,
    gain_db: float = 0.0,
    clipped: int | None = None,
    is_sub: bool | None = False,
) -> Capture:
    """Response, arrival, polarity and quality of one recording.

    Parameters
    ----------
    recording : ndarray, shape (samples,)
        Full scale 1, at the deconvolver's sample rate, no longer than it was prepared for.
    microphone : MicrophoneCurve, optional
        Taken out of the response.
    gain_db : float
        Gain of the microphone input, taken out as well.
    clipped : int, optional
        Clipped samples of the recording as it came, where this one has been resampled since.
    is_sub : bool or None
        Whether a sub plays: arrival, polarity and signal to noise are then read in its band. None to find out.

    Returns
    -------
    Capture

    Raises
    ------
    InvalidValue
        If the recording is silent or not finite.
    SweepDrowned
        If it doesn't contain the stimulus, or something else is louder.

    Notes
    -----
    Signal to noise: the windowed response times the stimulus' spectrum is what the response explains of the
    recording; the rest is noise and distortion. By Parseval's theorem both energies are read off the spectra. The
    window also lets a part of the noise pass, in the ratio of its length to the whole; that part is put back. Below
    60 dB mains hum is taken out, and below 28 dB each octave of the response ends where it sinks into the noise.
    """
    if not np.all(np.isfinite(recording)):
        raise InvalidValue(
            "the recording has samples that are not numbers.", where="recording", remedy="Export it again."
        )
    peak = peak_dbfs(recording) if recording.size else -300.0
    if peak < -120:
        raise InvalidValue(
            "the recording is silent.",
            where="recording",
            remedy="Check the microphone's input and gain, then record again.",
        )
    divided = _heard(recording, deconvolver, is_sub)
    if divided.signal_to_noise_db < _HUM_MATTERS_BELOW_DB and may_hum(
        divided.recorded, divided.explained, size=deconvolver.size, sample_rate_hz=deconvolver.sample_rate_hz
    ):
        hum = hum_in(divided.left_over(deconvolver)[: recording.size], sample_rate_hz=deconvolver.sample_rate_hz)
        if hum is not None:
            divided = replace(
                _heard(recording - hum, deconvolver, is_sub), signal_to_noise_db=divided.signal_to_noise_db
            )
    arrival, windowed = divided.arrival, divided.windowed
    quality = Quality(
        signal_to_noise_db=divided.signal_to_noise_db,
        peak_dbfs=peak,
        clipped_samples=clipped_samples(recording) if clipped is None else clipped,
    )
    if quality.signal_to_noise_db < _LEAST_SIGNAL_TO_NOISE_DB:
        raise SweepDrowned(
            "the recording does not contain this sweep, or noise drowns it.",
            where="recording",
            remedy="Use the recording of the very test signal, whole and unedited.",
        )
    if quality.signal_to_noise_db < NOISE_MATTERS_BELOW_DB:
        windowed = windowed_by_noise(windowed, divided.noise, arrival_s=arrival.time_s)
    missing_s = arrival.time_s + deconvolver.stimulus_s - recording.size / deconvolver.sample_rate_hz
    cautions = _cautions(quality, arrival, missing_s)
    if microphone is not None:
        windowed = without_response(windowed, microphone)
    windowed = ImpulseResponse(
        sample=windowed.sample * 10 ** (-gain_db / 20), sample_rate_hz=windowed.sample_rate_hz, start_s=windowed.start_s
    )
    return Capture(response=windowed, arrival=arrival, quality=quality, cautions=cautions)


def plays_bass_alone(spectrum: NDArray, *, size: int, sample_rate_hz: int) -> bool:
    """Whether a response holds bass and next to nothing above it: that of a sub.

    Mean power of 30 to 100 Hz, over the logarithm of frequency, against that of 400 Hz to 4 kHz: no full-range speaker,
    and no small room, lifts the bass by 15 dB; a sub's crossover leaves 30 dB and more, if noise lets it.
    """

    def level(low_hz: float, high_hz: float) -> float:
        edges = np.geomspace(low_hz, high_hz, 13) * size / sample_rate_hz
        bands = (spectrum[round(a) : max(round(b), round(a) + 1)] for a, b in pairwise(edges))
        return float(power_db(np.mean([(band.real**2 + band.imag**2).mean() for band in bands])))

    return level(30, 100) > level(400, 4000) + _BASS_ALONE_DB


def records_bass_alone(recording: NDArray[np.float64], *, sample_rate_hz: int) -> bool:
    """The same of a raw recording of a logarithmic sweep, whose energy is that of pink noise."""
    size = scipy.fft.next_fast_len(recording.size, real=True)
    frequency = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    return plays_bass_alone(
        scipy.fft.rfft(recording, size) * np.sqrt(frequency), size=size, sample_rate_hz=sample_rate_hz
    )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Heard:
    """A recording divided by its stimulus, and how well that explains it."""

    recorded: NDArray[np.complex128]
    explained: NDArray[np.complex128]
    noise: NDArray[np.float64]
    windowed: ImpulseResponse
    arrival: Arrival
    signal_to_noise_db: float

    def left_over(self, deconvolver: Deconvolver) -> NDArray[np.float64]:
        """What the windowed response does not explain of the recording, over time."""
        return scipy.fft.irfft(self.recorded - self.explained, deconvolver.size)


def _heard(recording: NDArray, deconvolver: Deconvolver, is_sub: bool | None) -> _Heard:
    """Divide, find the direct sound, cut the response out, and hold it against the recording."""
    recorded, spectrum = deconvolver.spectrum(recording)
    whole = deconvolver.impulse(spectrum)
    if is_sub is None:
        is_sub = plays_bass_alone(spectrum, size=deconvolver.size, sample_rate_hz=deconvolver.sample_rate_hz)
    del spectrum  # as large as the recording, and not needed any more
    arrival = find_arrival(whole.below(SUB_TOP_HZ) if is_sub else whole)
    windowed = whole.around(arrival.time_s, before_s=kept_before_s(deconvolver.sweep_s), after_s=AFTER_S)
    # Long ones take half a gigabyte: what is not needed any more goes before the next one comes.
    noise = noise_behind(whole, arrival_s=arrival.time_s)
    del whole
    if is_sub:
        arrival = sub_arrival(windowed)
    low, high = deconvolver.band_hz
    explained = _explained(windowed, deconvolver)
    level = _signal_to_noise_db(
        recorded,
        explained,
        deconvolver,
        passed=windowed.sample.size / recording.size,
        band_hz=(low, min(high, SUB_TOP_HZ) if is_sub else high),
    )
    return _Heard(
        recorded=recorded,
        explained=explained,
        noise=noise,
        windowed=windowed,
        arrival=arrival,
        signal_to_noise_db=level,
    )


def _explained(windowed: ImpulseResponse, deconvolver: Deconvolver) -> NDArray[np.complex128]:
    """The spectrum of what a response makes of the stimulus."""
    size, rate = deconvolver.size, deconvolver.sample_rate_hz
    placed = np.zeros(size, dtype=deconvolver.precision)
    first = round(windowed.start_s * rate) % size
    stop = min(size, first + windowed.sample.size)
    placed[first:stop] = windowed.sample[: stop - first]
    placed[: windowed.sample.size - (stop - first)] = windowed.sample[stop - first :]
    explained = scipy.fft.rfft(placed, overwrite_x=True)
    explained *= deconvolver.stimulus_spectrum
    return explained


def _signal_to_noise_db(
    recorded: NDArray, explained: NDArray, deconvolver: Deconvolver, *, passed: float, band_hz: tuple[float, float]
) -> float:
    """Explained over unexplained energy inside a band; `passed` is the part of all noise that the window lets pass."""
    low, high = (round(edge * deconvolver.size / deconvolver.sample_rate_hz) for edge in band_hz)
    inside = slice(low, high)
    residual = recorded[inside] - explained[inside]
    noise = float(np.vdot(residual, residual).real)
    signal = float(np.vdot(explained[inside], explained[inside]).real)
    passed = min(0.9, passed)
    noise /= 1 - passed
    signal = max(signal - noise * passed, 1e-30)
    return float(power_db(signal) - power_db(max(noise, signal * 1e-16)))


def without_response(response: ImpulseResponse, curve: MicrophoneCurve) -> ImpulseResponse:
    """The response divided by a curve: a microphone's, or the electronics'; padded so that nothing wraps."""
    size = scipy.fft.next_fast_len(response.sample.size * 2, real=True)
    frequency = scipy.fft.rfftfreq(size, 1 / response.sample_rate_hz)
    sample = scipy.fft.irfft(scipy.fft.rfft(response.sample, size) / curve.on(frequency), size)
    return ImpulseResponse(
        sample=sample[: response.sample.size], sample_rate_hz=response.sample_rate_hz, start_s=response.start_s
    )


def _cautions(quality: Quality, arrival: Arrival, missing_s: float) -> tuple[Caution, ...]:
    """What a person should know; `missing_s` of the stimulus' end came after the recording ended."""
    found = []
    if quality.clipped_samples:
        found.append(Caution(kind="clipped", value=quality.clipped_samples))
    if quality.signal_to_noise_db < NOISY_BELOW_DB:
        found.append(Caution(kind="noisy", value=quality.signal_to_noise_db))
    if arrival.polarity == "unsure":
        found.append(Caution(kind="polarity unsure"))
    if arrival.time_s < -_CUT_OFF_S:
        found.append(Caution(kind="starts late"))
    if missing_s > _CUT_OFF_S:
        found.append(Caution(kind="ends early"))
    return tuple(found)
