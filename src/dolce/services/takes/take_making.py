"""From a recording to a kept take; shared by live passes and files made elsewhere."""

from collections.abc import Iterable
from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, Rig
from dolce.core.response import (
    Capture,
    Deconvolver,
    GridLevels,
    InterfaceLoop,
    MicrophoneCurve,
    analyse_recording,
    grid_levels,
    without_response,
)
from dolce.core.signals import Sweep, mark, with_marks
from dolce.core.signals.marks import GAP_S
from dolce.errors import Conflict

TAIL_S = 1.0


def sweep_of(rig: Rig) -> Sweep:
    """The sweep of a job: 10 Hz to 22 kHz, or as high as its sample rate lets it."""
    return Sweep(start_hz=10.0, stop_hz=min(22_000.0, 0.49 * rig.sample_rate_hz), duration_s=rig.sweep_seconds,
                 sample_rate_hz=rig.sample_rate_hz, level_dbfs=rig.levels.sweep_level_dbfs)


@lru_cache(maxsize=4)
def stimulus_of(sweep: Sweep) -> NDArray[np.float64]:
    """The sweep with the silence behind it, computed once; read-only."""
    samples = np.concatenate([sweep.samples(), np.zeros(round(TAIL_S * sweep.sample_rate_hz))])
    samples.flags.writeable = False
    return samples


@lru_cache(maxsize=3)
def deconvolver_of(sweep: Sweep, recording_samples: int) -> Deconvolver:
    """The sweep's inverse, computed once for all takes of a board."""
    return new_deconvolver(sweep, recording_samples)


def new_deconvolver(sweep: Sweep, recording_samples: int) -> Deconvolver:
    """The sweep's inverse for one length of recording."""
    return Deconvolver(sweep.samples(), sample_rate_hz=sweep.sample_rate_hz, recording_samples=recording_samples,
                       band_hz=(sweep.start_hz, sweep.stop_hz))


def marked(sweep: Sweep) -> NDArray[np.float64]:
    """The sweep between its two marks, as a test signal for a recorder with a clock of its own."""
    return with_marks(sweep.samples(), sample_rate_hz=sweep.sample_rate_hz)


def marks_of(sweep: Sweep) -> tuple[int, int]:
    """Where the marks begin in that test signal, in samples."""
    samples = sweep.samples().size + 2 * round(GAP_S * sweep.sample_rate_hz)
    return 0, samples + mark(sweep.sample_rate_hz).size


def new_marked_deconvolver(sweep: Sweep, recording_samples: int) -> Deconvolver:
    """The inverse of the sweep with its marks for one length of recording."""
    return Deconvolver(marked(sweep), sample_rate_hz=sweep.sample_rate_hz, recording_samples=recording_samples,
                       band_hz=(sweep.start_hz, sweep.stop_hz), sweep_s=sweep.duration_s)


def captured(recording: NDArray[np.float64], *, sweep: Sweep, microphone: MicrophoneCurve | None,
             loop: InterfaceLoop | None = None, gain_db: float = 0.0, clipped: int | None = None,
             is_sub: bool = False, deconvolver: Deconvolver | None = None) -> tuple[Capture, GridLevels]:
    """Response, arrival and quality of a recording, and its levels on the analysis grid.

    A sub's arrival and polarity are read in its own band. Where the interface's loop is known, its response and its
    latency are taken out.

    Raises
    ------
    InvalidValue
        If the recording is silent or does not hold the sweep.
    """
    deconvolver = deconvolver or deconvolver_of(sweep, recording.size)
    capture = analyse_recording(recording, deconvolver=deconvolver, microphone=microphone, gain_db=gain_db,
                                clipped=clipped, is_sub=is_sub)
    if loop is not None:
        response = without_response(capture.response, loop.response)
        response = replace(response, start_s=response.start_s - loop.latency_s)
        capture = replace(capture, response=response,
                          arrival=replace(capture.arrival, time_s=capture.arrival.time_s - loop.latency_s))
    return capture, grid_levels(capture.response)


def require_open(job: Job, channels: Iterable[str]) -> None:
    """Conflict where the processor shuts or dims what is to be measured; one that can't be read is not asked."""
    shut = [channel for channel in channels if not job.processor.is_open(channel)]
    if shut:
        raise Conflict(f"the processor keeps {', '.join(shut)} silent.", where="processor",
                       remedy="Take mute and solo off on the Rig page, under Processor.")
    if job.processor.dimmed:
        raise Conflict("the processor is dimmed.", where="processor",
                       remedy="Take the dimming off on the Rig page, under Processor.")
