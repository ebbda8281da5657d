"""Where a long recording holds its stimulus."""

import numpy as np
import scipy
from numpy.typing import NDArray

_MUCH_LONGER_S = 6.0  # than the stimulus: what is less is divided as it is
_AHEAD_S, _AFTER_S = 1.0, 4.0  # kept around the stimulus
_LOOKED_AT_HZ = 6000  # rate that is enough to find it
_CLEAR = 8.0  # peak against the RMS of what else looks like the stimulus


def part_with(recording: NDArray[np.float64], stimulus: NDArray[np.float64], *, sample_rate_hz: int) -> slice:
    """From a second ahead of the stimulus to four behind it; all of a recording that is not much longer, or in which
    it does not stand out.

    Division by the stimulus costs memory and time in proportion to the recording, whose silence tells nothing.

    Parameters
    ----------
    recording, stimulus : ndarray, shape (samples,)

    Notes
    -----
    Both are taken down to 6 kHz by means of blocks, and correlated with the phases alone, so that every frequency
    counts alike (C. H. Knapp and G. C. Carter, IEEE Trans. ASSP 24, 320-327, 1976).
    """
    whole = slice(0, recording.size)
    if recording.size < stimulus.size + _MUCH_LONGER_S * sample_rate_hz:
        return whole
    block = max(1, sample_rate_hz // _LOOKED_AT_HZ)
    recorded, played = (_block_means(sample, block) for sample in (recording, stimulus))
    size = scipy.fft.next_fast_len(recorded.size + played.size, real=True)
    cross = scipy.fft.rfft(recorded, size) * np.conj(scipy.fft.rfft(played, size))
    alike = np.abs(scipy.fft.irfft(cross / np.maximum(np.abs(cross), 1e-30), size))[: recorded.size]
    at = int(np.argmax(alike))
    if alike[at] < _CLEAR * np.sqrt(np.mean(alike**2)):
        return whole
    begin = at * block - round(_AHEAD_S * sample_rate_hz)
    end = at * block + stimulus.size + round(_AFTER_S * sample_rate_hz)
    return slice(max(0, begin), min(recording.size, end))


def _block_means(sample: NDArray, block: int) -> NDArray[np.float64]:
    return sample[: sample.size // block * block].reshape(-1, block).mean(axis=1)
