"""From a recording to a kept take; shared by live passes and files made elsewhere."""

from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, Rig
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    Capture,
    Deconvolver,
    MicrophoneCurve,
    analyse_recording,
    level_on_grid,
    without_response,
)
from dolce.core.rig import InterfaceLoop, sub_arrival
from dolce.core.signals import Sweep
from dolce.devices.interface import AudioDevice
from dolce.devices.rehearsal import RehearsalRig
from dolce.devices.sound_card import SoundCard
from dolce.errors import Conflict

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
    return new_deconvolver(sweep, recording_samples)


def new_deconvolver(sweep: Sweep, recording_samples: int) -> Deconvolver:
    """The sweep's inverse for one length of recording."""
    return Deconvolver(sweep.samples(), sample_rate_hz=sweep.sample_rate_hz, recording_samples=recording_samples,
                       band_hz=(sweep.start_hz, sweep.stop_hz))


def captured(recording: NDArray[np.float64], *, sweep: Sweep, microphone: MicrophoneCurve | None,
             loop: InterfaceLoop | None = None, gain_db: float = 0.0, clipped: int | None = None,
             is_sub: bool = False, deconvolver: Deconvolver | None = None) -> tuple[Capture, NDArray[np.float64]]:
    """Response, arrival and quality of a recording, and its level on the analysis grid over 1/48 octave.

    A sub's arrival and polarity are read in its own band. Where the interface's loop is known, its response and its
    latency are taken out.

    Raises
    ------
    InvalidValue
        If the recording is silent or does not hold the sweep.
    """
    deconvolver = deconvolver or deconvolver_of(sweep, recording.size)
    capture = analyse_recording(recording, deconvolver=deconvolver, microphone=microphone, gain_db=gain_db,
                                clipped=clipped)
    if loop is not None:
        response = without_response(capture.response, loop.response)
        response = replace(response, start_s=response.start_s - loop.latency_s)
        capture = replace(capture, response=response,
                          arrival=replace(capture.arrival, time_s=capture.arrival.time_s - loop.latency_s))
    if is_sub:
        arrival = sub_arrival(capture.response)
        capture = replace(capture, arrival=arrival, warnings=tuple(
            w for w in capture.warnings if arrival.polarity == "unsure" or not w.startswith("Polarity")))
    return capture, level_on_grid(capture.response, at_hz=ANALYSIS_GRID_HZ, per_octave=48)


def placement_of(job: Job, spot_id: int) -> list[int]:
    """The spots that are measured at once with the one given: with several microphones each placement serves several.

    Spots are taken in their order, as many at a time as there are microphones; the leading one stands at the first.
    """
    ids = [spot.id for spot in job.spots]
    count = len(job.rig.inputs)
    start = ids.index(job.spot(spot_id).id) // count * count
    return ids[start:start + count]


def device_of(job: Job, *, spot_id: int, round_name: str, attempt: int, with_loop: bool = False,
              together: bool = False, moving: Sequence[int] = (), close_to_m: float | None = None,
              subs_at_one_place: bool = False, real_time: bool | None = None,
              live_speed: float = float("inf")) -> AudioDevice:
    """The rig of a job with its microphones at the placement of a spot: this computer's audio, or the rehearsal rig.

    Parameters
    ----------
    with_loop : bool
        Record the loop's input too, as the last.
    together : bool
        All microphones are at that spot, to be compared.
    moving : sequence of int
        Spots that the microphone is carried past (in the rehearsal; a real one is carried by hand).
    close_to_m : float or None
        The microphone stands this close to whichever sub sounds (in the rehearsal).
    subs_at_one_place : bool
        Every sub is carried to where the first one stands (in the rehearsal).
    real_time : bool or None
        Whether the rehearsal takes as long as it would; None as the job has it.
    live_speed : float
        How many times faster live sound of the rehearsal may pass otherwise.
    """
    rig = job.rig
    if with_loop and rig.loop_input is None:
        raise Conflict("no loop is joined.", where="loop", remedy="Say which output and input the cable joins.")
    if rig.hardware == "sound card":
        inputs = (*rig.inputs, *((rig.loop_input,) if with_loop else ()))
        return SoundCard(name=rig.card_name, host=rig.card_host, inputs=inputs, ceiling=rig.ceiling)
    placement = placement_of(job, spot_id)
    # At the end of the walk there may be more microphones than spots left: they wait at the last one.
    spots = [spot_id] * len(rig.inputs) if together else [
        *placement, *placement[-1:] * (len(rig.inputs) - len(placement))]
    first, *others = (job.spot(one).place for one in spots)
    one_place = next((s.place for s in job.speakers if s.is_sub), None) if subs_at_one_place else None
    return RehearsalRig(
        room=job.room, speakers={s.output: (s.channel, one_place if s.is_sub and one_place else s.place)
                                 for s in job.speakers},
        microphone=first, more_microphones=tuple(others), pointing=rig.pointing or "speakers", loop=with_loop,
        microphone_gain_db=rig.microphone_gain_db, knobs_db=rig.knobs_db,
        desks=tuple(box for box in job.plan.boxes if box.kind == "desk"),
        processor=job.processor, seed=f"{job.seed}/{round_name}/{spot_id}/{attempt}",
        real_time=rig.pace == "real time" if real_time is None else real_time, faults=rig.faults, ceiling=rig.ceiling,
        live_speed=live_speed, path=tuple(job.spot(one).place for one in moving), close_to=close_to_m,
        burst=job.channels[0] if (job.spot(spot_id).number, attempt) == (2, 1) else "")


def require_open(job: Job, channels: Iterable[str]) -> None:
    """Conflict where the processor shuts or dims what is to be measured; one that can't be read is not asked."""
    if job.rig.hardware != "rehearsal":
        return
    shut = [channel for channel in channels if not job.processor.is_open(channel)]
    if shut:
        raise Conflict(f"the processor keeps {', '.join(shut)} silent.", where="processor",
                       remedy="Take mute and solo off on the Rig page, under Processor.")
    if job.processor.dimmed:
        raise Conflict("the processor is dimmed.", where="processor",
                       remedy="Take the dimming off on the Rig page, under Processor.")
