"""Impulse responses with a given level: of minimum phase, of linear phase, and with a phase compensated."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import faded, minimum_phase_spectrum

_OVERSAMPLED = 8
_FLOOR_DB = -120.0
_ADVANCED = 0.75  # of the time allowed before the main sound: the rest is for the fade that begins it


def minimum_phase(at_hz: NDArray, level_db: NDArray, *, sample_rate_hz: float, samples: int) -> NDArray[np.float64]:
    """Impulse response of minimum phase, shape (samples,); the level is held beyond its ends. Its last tenth fades.

    References
    ----------
    A. V. Oppenheim and R. W. Schafer, "Discrete-Time Signal Processing", homomorphic systems: the real cepstrum,
    folded, on an oversampled grid.
    """
    size = scipy.fft.next_fast_len(_OVERSAMPLED * samples, real=True)
    size += size % 2
    log_level = _on_bins(at_hz, level_db, size, sample_rate_hz) * np.log(10) / 20
    return faded(scipy.fft.irfft(minimum_phase_spectrum(log_level), size)[:samples], falling=samples // 10)


def linear_phase(at_hz: NDArray, level_db: NDArray, *, sample_rate_hz: float, samples: int) -> NDArray[np.float64]:
    """Impulse response of linear phase, symmetric about its middle, shape (samples,) or one less if that is even."""
    samples -= 1 - samples % 2
    size = scipy.fft.next_fast_len(_OVERSAMPLED * samples, real=True)
    level = 10 ** (_on_bins(at_hz, level_db, size, sample_rate_hz) / 20)
    half = samples // 2
    around = np.roll(scipy.fft.irfft(level, size), half)[:samples]
    return faded(around, rising=samples // 10, falling=samples // 10)


def phase_compensated(
    at_hz: NDArray,
    level_db: NDArray,
    phase_hz: NDArray,
    phase_rad: NDArray,
    *,
    sample_rate_hz: float,
    samples: int,
    before_s: float,
) -> NDArray[np.float64]:
    """Impulse response of a level, of minimum phase but for a phase that it undoes, shape (samples,).

    Parameters
    ----------
    at_hz, level_db : ndarray, shape (points,)
        Level, held beyond its ends.
    phase_hz, phase_rad : ndarray, shape (phases,)
        Phase that is undone, 0 at and above its upper end; from its lower end straight to the nearest multiple of pi
        at 0 Hz.
    before_s : float
        Longest time before the main sound in which the filter may sound, which is its latency. What would come earlier
        is faded out.

    Notes
    -----
    Cutting an all-pass in time changes its level. A minimum-phase filter makes up for that (its impulse response is
    causal, so that nothing comes earlier): the level is that of `level_db` also where the phase is undone only in part.
    """
    ahead = round(before_s * sample_rate_hz)
    size = scipy.fft.next_fast_len(_OVERSAMPLED * samples, real=True)
    size += size % 2
    bins = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    # A real filter has a multiple of pi at 0 Hz.
    phase_hz = np.concatenate([[0.0], phase_hz])
    phase_rad = np.concatenate([[np.pi * np.round(phase_rad[0] / np.pi)], phase_rad])
    phase = np.interp(bins, phase_hz, _within_advance(phase_hz, phase_rad, _ADVANCED * before_s), right=0.0)
    pass_all = np.roll(scipy.fft.irfft(np.exp(-1j * phase), size), ahead)
    window = np.zeros(size)
    window[:samples] = faded(np.ones(samples), rising=ahead, falling=(samples - ahead) // 2)
    cut = scipy.fft.rfft(pass_all * window)
    wanted = _on_bins(at_hz, level_db, size, sample_rate_hz) * np.log(10) / 20
    made_up = minimum_phase_spectrum(wanted - np.log(np.maximum(np.abs(cut), 1e-6)))
    return faded(scipy.fft.irfft(cut * made_up, size)[:samples], falling=samples // 10)


def _within_advance(phase_hz: NDArray, phase_rad: NDArray, most_s: float) -> NDArray[np.float64]:
    """A phase to undo whose filter is nowhere earlier than by `most_s`, 0 at its upper end.

    Its slopes are held to so much that a multiple of pi is left at the lower end: a real filter has that at 0 Hz, and
    getting there within a few Hz would take longer than filters are.
    """
    width, steps = 2 * np.pi * np.diff(phase_hz), np.diff(phase_rad)

    def held(advance_s: float) -> NDArray:
        return phase_rad[-1] - np.concatenate([np.cumsum(np.maximum(steps, -advance_s * width)[::-1])[::-1], [0.0]])

    whole = held(most_s)[0]
    if abs(whole - phase_rad[0]) < 1e-9:
        return phase_rad
    wanted = np.pi * np.floor(whole / np.pi)
    if held(0.0)[0] > wanted:
        return np.zeros(phase_rad.size)
    return held(scipy.optimize.brentq(lambda advance_s: held(advance_s)[0] - wanted, 0.0, most_s))


def before_main_db(impulse: NDArray) -> float:
    """Energy that sounds before the largest sample, against all of it, in dB; -200 for none."""
    first = int(np.argmax(np.abs(impulse)))
    share = float(np.sum(impulse[:first] ** 2) / np.sum(impulse**2))
    return 10 * np.log10(max(share, 1e-20))


def _on_bins(at_hz: NDArray, level_db: NDArray, size: int, sample_rate_hz: float) -> NDArray:
    """Level at the bins of a transform, over log frequency, held beyond its ends."""
    bins = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    return np.maximum(np.interp(np.log(np.maximum(bins, 1e-3)), np.log(at_hz), level_db), _FLOOR_DB)
