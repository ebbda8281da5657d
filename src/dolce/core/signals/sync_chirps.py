"""Two equal short marks around a sweep: their distance tells how far the clocks of player and recorder differ.

A stretched logarithmic sweep is the same sweep through an all-pass, so a plain sweep alone can't tell a clock from a
speaker's phase. Two equal sounds pass the same speaker and room and come out equal: what lies between them is time.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import raised_cosine
from dolce.core.signals.sweep import exponential_sweep

CHIRP_S = 0.25
GAP_S = 0.5  # between a mark and the sweep: what a mark leaves in a room has faded by then
FROM_HZ, TO_HZ = 25.0, 12_000.0  # low enough that a sub plays it, too
SYNC_FROM_HZ = 400.0  # a sync chirp comes from a main speaker: above what subs play it is heard beside loud ones
_FADE = 0.1  # of the mark, at each end
_IS_A_CHIRP = 0.98  # correlation of what stands in a stimulus with the mark


def sync_chirp(sample_rate_hz: int) -> NDArray[np.float64]:
    """One mark, shape (round(MARK_S * sample_rate_hz),), full scale 1: a short chirp with faded ends."""
    chirp = exponential_sweep(
        start_hz=FROM_HZ, stop_hz=min(TO_HZ, 0.4 * sample_rate_hz), duration_s=CHIRP_S, sample_rate_hz=sample_rate_hz
    )
    return chirp * scipy.signal.windows.tukey(chirp.size, 2 * _FADE)


def chirp_above(from_hz: float, sample_rate_hz: int) -> NDArray[np.float64]:
    """What a mark has above a frequency, shape as `sync_chirp`; with zero phase, so that it begins at the same time."""
    chirp = sync_chirp(sample_rate_hz)
    if from_hz <= FROM_HZ:
        return chirp
    size = scipy.fft.next_fast_len(2 * chirp.size, real=True)
    octaves = np.log2(np.maximum(scipy.fft.rfftfreq(size, 1 / sample_rate_hz), 1e-3) / from_hz)
    return scipy.fft.irfft(scipy.fft.rfft(chirp, size) * raised_cosine(octaves + 1), size)[: chirp.size]


def with_chirps(sweep: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
    """The sweep between two marks as loud as its highest sample."""
    chirp = sync_chirp(sample_rate_hz) * np.abs(sweep).max()
    gap = np.zeros(round(GAP_S * sample_rate_hz))
    return np.concatenate([chirp, gap, sweep, gap, chirp])


def sweep_part_s(whole_s: float) -> float:
    """How long the sweep lasts in a stimulus with marks that lasts so long."""
    return whole_s - 2 * (CHIRP_S + GAP_S)


def chirps_in(stimulus: NDArray[np.float64], *, sample_rate_hz: int) -> tuple[int, int] | None:
    """Where the two marks of a stimulus begin, in samples; None where it has none.

    They are looked for at its very ends, silence aside.
    """
    loud = np.flatnonzero(np.abs(stimulus) > 1e-4 * np.abs(stimulus).max()) if stimulus.size else np.zeros(0, int)
    chirp = sync_chirp(sample_rate_hz)
    if loud.size == 0 or loud[-1] - loud[0] < 2 * chirp.size:
        return None
    reach = chirp.size // 8  # the faded ends of a mark may be lost in rounding
    first = _found(stimulus, max(0, loud[0] - reach), loud[0] + reach, chirp)
    last = _found(stimulus, loud[-1] - chirp.size - reach, loud[-1] - chirp.size + 2 * reach, chirp)
    return None if first is None or last is None else (int(first), int(last))


def _found(stimulus: NDArray, low: int, high: int, chirp: NDArray) -> int | None:
    """Where between `low` and `high` the mark stands; None where nothing there is like it."""
    part = stimulus[max(0, low) : high + chirp.size]
    if part.size < chirp.size:
        return None
    match = scipy.signal.correlate(part, chirp, mode="valid")
    at = int(np.argmax(np.abs(match)))
    here = part[at : at + chirp.size]
    alike = abs(match[at]) / (np.linalg.norm(here) * np.linalg.norm(chirp) + 1e-300)
    return max(0, low) + at if alike > _IS_A_CHIRP else None
