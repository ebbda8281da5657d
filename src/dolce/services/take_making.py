"""From a recording to a kept take; shared by live passes and files made elsewhere."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, Rig
from dolce.core.response import ANALYSIS_GRID_HZ, Capture, Deconvolver, analyse_recording, level_on_grid
from dolce.core.rig import sub_arrival
from dolce.core.signals import Sweep
from dolce.devices.interface import AudioDevice
from dolce.devices.rehearsal import RehearsalRig
from dolce.devices.sound_card import SoundCard

TAIL_S = 1.0


def sweep_of(rig: Rig) -> Sweep:
    """The sweep of a job: 10 Hz to 22 kHz, or as high as its sample rate lets it."""
    return Sweep(start_hz=10.0, stop_hz=min(22_000.0, 0.49 * rig.sample_rate_hz), duration_s=rig.sweep_seconds,
                 sample_rate_hz=rig.sample_rate_hz, level_dbfs=rig.sweep_level_dbfs)


@lru_cache(maxsize=4)
def stimulus_of(sweep: Sweep) -> NDArray[np.float64]:
    """The sweep with the silence behind it, computed once; read-only."""
    samples = np.concatenate([sweep.samples(), np.zeros(round(TAIL_S * sweep.sample_rate_hz))])
    samples.flags.writeable = False
    return samples


@lru_cache(maxsize=3)
def deconvolver_of(sweep: Sweep, recording_samples: int) -> Deconvolver:
    """The sweep's inverse, computed once for all takes of a board."""
    return Deconvolver(sweep.samples(), sample_rate_hz=sweep.sample_rate_hz, recording_samples=recording_samples,
                       band_hz=(sweep.start_hz, sweep.stop_hz))


def captured(recording: NDArray[np.float64], *, sweep: Sweep, rig: Rig,
             gain_db: float, clipped: int | None = None, is_sub: bool = False) -> tuple[Capture, NDArray[np.float64]]:
    """Response, arrival and quality of a recording, and its level on the analysis grid over 1/48 octave.

    A sub's arrival and polarity are read in its own band.
    """
    capture = analyse_recording(recording, deconvolver=deconvolver_of(sweep, recording.size), microphone=rig.curve,
                                gain_db=gain_db, clipped=clipped)
    if is_sub:
        arrival = sub_arrival(capture.response)
        capture = replace(capture, arrival=arrival, warnings=tuple(
            w for w in capture.warnings if arrival.polarity == "unsure" or not w.startswith("Polarity")))
    return capture, level_on_grid(capture.response, at_hz=ANALYSIS_GRID_HZ, per_octave=48)


def device_of(job: Job, *, spot_number: int, round_name: str, attempt: int) -> AudioDevice:
    """The rig of a job with its microphone at a spot: this computer's audio, or the rehearsal rig."""
    if job.rig.hardware == "sound card":
        return SoundCard(name=job.rig.card_name, host=job.rig.card_host, microphone=job.rig.card_input)
    return RehearsalRig(
        room=job.room, speakers={s.output: (s.channel, s.place) for s in job.speakers},
        microphone=job.spot(spot_number).place, microphone_gain_db=job.rig.microphone_gain_db,
        processor=job.processor, seed=f"{job.seed}/{round_name}/{spot_number}/{attempt}",
        real_time=job.rig.pace == "real time", faults=job.rig.faults,
        burst=job.channels[0] if (spot_number, attempt) == (2, 1) else "")
