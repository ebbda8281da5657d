"""Recordings of two clocks brought onto one, by the sync chirps at both ends of what was played."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import fade_out
from dolce.core.response.arrival import find_arrival
from dolce.core.response.clock_drift import ChirpsFound, find_chirps, stretched
from dolce.core.response.deconvolution import Deconvolver
from dolce.core.signals import SyncedSignal, sync_chirp
from dolce.core.signals.sync_chirps import SYNC_FROM_HZ, TO_HZ

_AROUND_S = 0.15  # of what is looked at around a sync chirp: less than the silence behind it
_CLEAR_DB = 20.0  # its direct sound above what else is heard there
_FADE_S = 0.02
_SPARE = 256  # samples beyond both ends that interpolation may ask for


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class OneClock:
    """A recording as a device with one clock would have made it of the bare test signal.

    Attributes
    ----------
    recording : ndarray, shape (samples,)
        Sample 0 is when the signal was played.
    drift_ppm : float
        How much longer it was; taken out.
    """

    recording: NDArray[np.float64]
    drift_ppm: float


def on_one_clock(
    recording: NDArray[np.float64],
    *,
    synced: SyncedSignal,
    samples: int,
    sync_flight_s: float,
    sync_chirps: ChirpsFound | None = None,
) -> OneClock | None:
    """Cut the test signal out of a recording that was made by another clock, from a moment of its own.

    Parameters
    ----------
    recording : ndarray, shape (any,)
        It holds both sync chirps and what is between them.
    samples : int
        How many are wanted from the moment when the signal began; from the second sync chirp on they are silent.
    sync_flight_s : float
        How long the sync chirp takes from the output to this place, by the plan: arrivals count from there.
    sync_chirps : ChirpsFound, optional
        Where they are known already.

    Returns
    -------
    OneClock or None
        None where the sync chirps are not heard clearly.

    Notes
    -----
    The drift is taken out by the distance of the sync chirps. The first one, always from the same speaker, is divided
    by what was played, and its direct sound found as that of any take; whatever that misjudges is the same for all
    feeds at one place. Source: our own.
    """
    rate = synced.sample_rate_hz
    sync_chirps = sync_chirps or find_chirps(
        recording, apart=synced.silent_until, sample_rate_hz=rate, from_hz=SYNC_FROM_HZ
    )
    if sync_chirps is None:
        return None
    longer = 1 + sync_chirps.drift_ppm * 1e-6
    arrival = _arrival(recording, sync_chirps.first, rate, longer)
    if arrival is None:
        return None
    begin = arrival / longer - sync_flight_s * rate + synced.signal_at
    first = max(0, int(begin) - _SPARE)
    whole = np.pad(recording, (0, max(0, int(begin) + samples + _SPARE - recording.size)))
    cut = stretched(whole[first : int(begin) + samples + _SPARE], longer - 1, start=begin - first / longer)[:samples]
    fade, length = round(_FADE_S * rate), min(samples, synced.silent_until - synced.signal_at)
    cut[length - fade : length] *= fade_out(fade)
    cut[length:] = 0.0
    return OneClock(recording=cut, drift_ppm=sync_chirps.drift_ppm)


def _arrival(recording: NDArray, heard_at: int, rate: int, longer: float) -> float | None:
    """When the first sync chirp arrives, in samples and parts of them; None where nothing is like it."""
    emitted, around = sync_chirp(rate), round(_AROUND_S * rate)
    first = max(0, heard_at - around)
    # On the player's clock: a sync chirp that is stretched is heard late by what its upper end is.
    part = stretched(recording[first : heard_at + emitted.size + around], longer - 1)
    deconvolver = Deconvolver(
        emitted, sample_rate_hz=rate, recording_samples=part.size, band_hz=(SYNC_FROM_HZ, 0.5 * min(TO_HZ, 0.4 * rate))
    )
    response = deconvolver.impulse(deconvolver.spectrum(part)[1])
    magnitude = np.abs(response.sample)
    peak = int(np.argmax(magnitude))
    # Noise is everywhere; a room's answer is not half the length of a sync chirp ahead of its direct sound.
    far = magnitude[: max(1, peak - around // 3)]
    if magnitude[peak] < 10 ** (_CLEAR_DB / 20) * np.sqrt(np.mean(far**2)):
        return None
    return first + find_arrival(response).time_s * rate * longer
