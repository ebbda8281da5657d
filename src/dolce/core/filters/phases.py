"""Impulse responses with a given level: of minimum phase, of linear phase, and with a known phase undone."""

import numpy as np
import scipy
from numpy.typing import NDArray

_OVERSAMPLED = 8
_FLOOR_DB = -120.0


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
    cepstrum = scipy.fft.irfft(log_level, size)
    fold = np.zeros(size)
    fold[0] = fold[size // 2] = 1.0
    fold[1:size // 2] = 2.0
    found = scipy.fft.irfft(np.exp(scipy.fft.rfft(cepstrum * fold)), size)[:samples]
    fade = max(1, samples // 10)
    found[samples - fade:] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fade) + 1) / fade)
    return found


def linear_phase(at_hz: NDArray, level_db: NDArray, *, sample_rate_hz: float, samples: int) -> NDArray[np.float64]:
    """Impulse response of linear phase, symmetric about its middle, shape (samples,) or one less if that is even."""
    samples -= 1 - samples % 2
    size = scipy.fft.next_fast_len(_OVERSAMPLED * samples, real=True)
    level = 10 ** (_on_bins(at_hz, level_db, size, sample_rate_hz) / 20)
    half = samples // 2
    around = np.roll(scipy.fft.irfft(level, size), half)[:samples]
    fade = max(1, samples // 10)
    window = np.ones(samples)
    window[samples - fade:] = 0.5 + 0.5 * np.cos(np.pi * (np.arange(fade) + 1) / fade)
    window[:fade] = window[samples - fade:][::-1]
    return around * window


def turned_back(impulse: NDArray, at_hz: NDArray, phase_rad: NDArray, *, sample_rate_hz: float,
                before_s: float) -> NDArray[np.float64]:
    """`impulse` with a phase taken out of it, later by `before_s`, shape as given.

    Parameters
    ----------
    phase_rad : ndarray, shape (points,)
        What is undone at `at_hz`, 0 beyond its ends; levels stay as they are.
    before_s : float
        Longest time before the main arrival that may sound; what would have to come earlier is faded out, so that the
        phase is undone only as far as that allows.
    """
    ahead = round(before_s * sample_rate_hz)
    size = scipy.fft.next_fast_len(4 * (impulse.size + 2 * ahead), real=True)
    bins = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    phase = np.interp(bins, at_hz, phase_rad, left=0.0, right=0.0)
    pass_all = np.roll(scipy.fft.irfft(np.exp(-1j * phase), size), ahead)
    window = np.zeros(size)
    window[:ahead] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(ahead) + 0.5) / max(1, ahead))
    window[ahead:size // 2] = 1.0
    return scipy.signal.fftconvolve(pass_all * window, impulse)[: impulse.size]


def before_main_db(impulse: NDArray) -> float:
    """Energy that sounds before the largest sample, against all of it, in dB; -200 for none."""
    first = int(np.argmax(np.abs(impulse)))
    share = float(np.sum(impulse[:first] ** 2) / np.sum(impulse**2))
    return 10 * np.log10(max(share, 1e-20))


def _on_bins(at_hz: NDArray, level_db: NDArray, size: int, sample_rate_hz: float) -> NDArray:
    """Level at the bins of a transform, over log frequency, held beyond its ends."""
    bins = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
    return np.maximum(np.interp(np.log(np.maximum(bins, 1e-3)), np.log(at_hz), level_db), _FLOOR_DB)
