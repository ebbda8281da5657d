"""Recordings made by a machine with a clock of its own."""

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import faded, in_band, vertex
from dolce.core.response.deconvolution import Deconvolver
from dolce.core.signals.sync_chirps import FROM_HZ, TO_HZ, chirp_above

_SEARCH_PPM = 300.0
DRIFT_WORTH_PPM = 0.5  # less is neither taken out nor reported: 2.5 us over 5 s
_GAIN = 1.02  # and the peak must grow by so much
_CHIRP_TAIL_S = 0.2  # of the room's answer to a mark that is laid over the other one's
_FINER = 8
_BLOCK, _MARGIN = 1 << 16, 4096  # samples that are read at once, and what is looked at beside them
_ALIKE = 0.5  # correlation of both marks as heard, below which noise has the say


def resampled(recording: NDArray[np.float64], *, from_hz: int, to_hz: int) -> NDArray[np.float64]:
    """The recording at another sample rate, shape (samples,): exact for a band-limited signal.

    The whole recording is transformed at once, padded at the end to a length that both rates can hold.
    """
    if from_hz == to_hz:
        return recording
    ratio = Fraction(to_hz, from_hz)
    blocks = -(-recording.size // ratio.denominator) + 64
    padded = np.concatenate([recording, np.zeros(blocks * ratio.denominator - recording.size)])
    return scipy.signal.resample(padded, blocks * ratio.numerator)[: round(recording.size * ratio)]


def without_drift(
    recording: NDArray[np.float64], *, deconvolver: Deconvolver, octave_s: float
) -> tuple[NDArray[np.float64], float]:
    """The recording on the stimulus' clock, and the drift that was taken out in parts per million.

    Parameters
    ----------
    octave_s : float
        Time that the logarithmic sweep takes for one octave.

    Returns
    -------
    (ndarray, float)
        The recording as it came and 0.0, where no drift stands out.

    Notes
    -----
    A clock that runs off by d delays a frequency by d times the time at which the sweep passes it. The direct sound
    is thereby smeared, most visibly where many cycles fit into the smear. The drift is the one that makes the direct
    sound above 1 kHz most compact again: its phase is turned back by that delay for a row of candidates, and the
    highest peak wins. Source: our own; compare the estimates for MLS in ISO 18233, Annex A.
    """
    rate = deconvolver.sample_rate_hz
    _, spectrum = deconvolver.spectrum(recording)
    frequency = scipy.fft.rfftfreq(deconvolver.size, 1 / rate)
    whole = scipy.fft.irfft(spectrum, deconvolver.size)
    centre = int(np.argmax(np.abs(whole)))
    part = np.take(whole, np.arange(centre - 2048, centre + 2048), mode="wrap") * scipy.signal.windows.hann(4096)
    spectrum = scipy.fft.rfft(part)
    frequency = scipy.fft.rfftfreq(4096, 1 / rate)
    band = in_band(frequency, (1000, min(16_000, 0.9 * deconvolver.band_hz[1])))
    # Group delay d * octave_s * log2(f / f1) integrated over frequency is the phase to turn back.
    turn = 2 * np.pi * octave_s * frequency[band] * (np.log2(frequency[band] / 1000) - 1 / np.log(2))
    # Equal energy per octave: the smear is the same at every pitch.
    half = np.where(band, spectrum, 0)[band] / np.sqrt(frequency[band])

    def peaks(drifts: NDArray) -> NDArray:
        turned = half * np.exp(1j * np.multiply.outer(drifts * 1e-6, turn))
        full = np.zeros((drifts.size, 4 * 4096), dtype=complex)  # four times finer: the peak falls between samples
        full[:, np.flatnonzero(band)] = turned
        return np.abs(scipy.fft.ifft(full, axis=1)).max(axis=1)

    coarse = np.arange(-_SEARCH_PPM, _SEARCH_PPM + 1, 5.0)
    best = coarse[np.argmax(peaks(coarse))]
    fine = best + np.arange(-5, 5.01, 0.25)
    heights = peaks(fine)
    drift = float(fine[np.argmax(heights)])
    untouched = float(peaks(np.zeros(1))[0])
    if abs(drift) < DRIFT_WORTH_PPM or heights.max() < _GAIN * untouched:
        return recording, 0.0
    return stretched(recording, drift * 1e-6), drift


def drift_between_chirps_ppm(
    recording: NDArray[np.float64], *, chirps: tuple[int, int], sample_rate_hz: int
) -> float | None:
    """How much longer the recording is than what was played, in parts per million; None where that can't be told.

    `chirps` says where they begin in what was played, in samples (`dolce.core.signals.chirps_in`).
    """
    found = find_chirps(recording, apart=chirps[1] - chirps[0], sample_rate_hz=sample_rate_hz)
    return None if found is None else found.drift_ppm


@dataclass(frozen=True, slots=True, kw_only=True)
class ChirpsFound:
    """Two marks found in a recording.

    Attributes
    ----------
    first : int
        Where the first one arrives, in samples.
    drift_ppm : float
        How much longer their distance is than it was when they were played.
    alike : float
        Correlation of both as heard, room and all.
    """

    first: int
    drift_ppm: float
    alike: float


def find_chirps(
    recording: NDArray[np.float64], *, apart: int, sample_rate_hz: int, from_hz: float = FROM_HZ
) -> ChirpsFound | None:
    """Two equal marks that were played `apart` samples from each other; None where they are not heard clearly.

    `from_hz` is where listening begins: a mark that a main speaker plays is looked for above what subs play.

    Notes
    -----
    A matched filter finds both marks at about their distance; what speaker and room made of the one is then laid over
    what they made of the other, on a grid 8 times finer. Whatever the speaker does to both, it takes no part in their
    distance. Source: our own.
    """
    chirp, distance = chirp_above(from_hz, sample_rate_hz), apart
    reach = int(np.ceil(_SEARCH_PPM * 1e-6 * distance)) + 2
    if recording.size < distance + chirp.size + 2 * reach:
        return None
    match = _matched(recording, chirp)
    first = _pair_at(match, distance, reach)
    # With the room's answer, as long as it is alone: the sweep comes half a second behind the first one.
    length = chirp.size + round(_CHIRP_TAIL_S * sample_rate_hz)
    begin = max(0, first - round(0.01 * sample_rate_hz))
    parts = [recording[start : start + length] for start in (begin, begin + distance)]
    size = scipy.fft.next_fast_len(2 * length, real=True)
    here, there = (scipy.fft.rfft(np.pad(part, (0, length - part.size)), size) for part in parts)
    frequency = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    audible = in_band(frequency, (0.8 * from_hz, TO_HZ))
    cross = np.where(audible, np.conj(here) * there, 0)
    fine = scipy.fft.irfft(cross, size * _FINER) * _FINER
    near = np.concatenate([fine[-reach * _FINER :], fine[: reach * _FINER + 1]])
    peak = int(np.argmax(near))
    energies = [float(np.sum(np.abs(part[audible]) ** 2)) for part in (here, there)]
    alike = near[peak] * size / 2 / np.sqrt(energies[0] * energies[1] + 1e-300)
    if not 0 < peak < near.size - 1 or alike < _ALIKE:
        return None
    shift = peak + vertex(*near[peak - 1 : peak + 2]) - reach * _FINER
    return ChirpsFound(first=first, drift_ppm=float(1e6 * shift / _FINER / distance), alike=float(alike))


def _matched(recording: NDArray, chirp: NDArray) -> NDArray[np.float32]:
    """How much a mark looks like what begins at each sample; in single precision, since it only says where to look."""
    filter_ = chirp[::-1].astype(np.float32)
    found = np.empty(recording.size - chirp.size + 1, dtype=np.float32)
    for begin in range(0, found.size, _BLOCK):
        end = min(begin + _BLOCK, found.size)
        found[begin:end] = scipy.signal.fftconvolve(
            recording[begin : end + chirp.size - 1].astype(np.float32), filter_, mode="valid"
        )
    return np.abs(found, out=found)


def _pair_at(match: NDArray, distance: int, reach: int) -> int:
    """Where two marks about that far apart are heard most clearly, block by block."""
    best, first = -np.inf, 0
    count = match.size - distance - reach
    for begin in range(0, count, _BLOCK):
        end = min(begin + _BLOCK, count)
        near = match[max(0, distance + begin - reach) : distance + end + reach]
        ahead = min(reach, distance + begin)
        later = scipy.ndimage.maximum_filter1d(near, 2 * reach + 1)[ahead : ahead + end - begin]
        both = match[begin:end] * later
        k = int(np.argmax(both))
        if both[k] > best:
            best, first = both[k], begin + k
    return first


def stretched(recording: NDArray, drift: float, *, start: float = 0.0) -> NDArray[np.float64]:
    """The recording read at times (start + n) (1 + drift), in samples; shape as given.

    `start` is in samples; what lies outside of the recording is silent.

    Notes
    -----
    Block by block, so that memory doesn't grow with the length: each is cut out with faded margins, which leave its
    middle as it is and make it periodic, and transformed onto a grid 8 times finer (J. O. Smith, "Mathematics of the
    Discrete Fourier Transform", interpolation by zero-padding). Between the points of that grid runs a cubic through
    four of them.
    """
    found = np.zeros(recording.size)
    for first in range(0, recording.size, _BLOCK):
        at = (start + np.arange(first, min(first + _BLOCK, recording.size))) * (1 + drift)
        begin = int(np.floor(at[0])) - _MARGIN
        found[first : first + at.size] = _read(_part(recording, begin, int(np.ceil(at[-1])) + _MARGIN), at - begin)
        outside = (at < 0) | (at >= recording.size)
        found[first : first + at.size][outside] = 0.0
    return found


def _part(recording: NDArray, begin: int, end: int) -> NDArray[np.float64]:
    """The recording from one sample to another with faded margins; zeros beyond its ends."""
    part = np.zeros(end - begin)
    low, high = max(begin, 0), min(end, recording.size)
    if high > low:
        part[low - begin : high - begin] = recording[low:high]
    return faded(part, rising=_MARGIN // 2, falling=_MARGIN // 2)


def _read(part: NDArray, at: NDArray) -> NDArray[np.float64]:
    """Values between the samples of a part that is silent at both ends."""
    size = scipy.fft.next_fast_len(part.size, real=True)
    size += size % 2
    spectrum = scipy.fft.rfft(part, size)
    spectrum[-1] /= 2  # Nyquist's bin is shared with its mirror image
    dense = scipy.fft.irfft(spectrum, size * _FINER) * _FINER
    at = at * _FINER
    k = at.astype(np.int64)
    t = at - k
    a, b, c, d = (dense[k + n] for n in (-1, 0, 1, 2))
    # Catmull-Rom through four points: at 8 times oversampling far below 24-bit noise up to 20 kHz.
    return b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)))
