"""Opens what a job's rig names: this computer's audio or the rehearsal's, and the processor that is loaded."""

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from dolce.core.geometry import Point
from dolce.core.job import Job, placement_of
from dolce.core.processor import ProcessorState
from dolce.core.room import RoomPlan, Speaker, axis_of
from dolce.core.simulation import desk_top, surfaces_of_plan
from dolce.devices.interface import AudioDevice
from dolce.devices.network.client import NetworkProcessor
from dolce.devices.processor import Processor, RehearsalProcessor, SaidByPerson
from dolce.devices.rehearsal import PlacedSpeaker, RehearsalRig
from dolce.devices.sound_card import SoundCard
from dolce.errors import Conflict


def audio_of(
    job: Job,
    *,
    spot_id: int,
    round_name: str,
    attempt: int,
    repeat: int = 0,
    with_loop: bool = False,
    together: bool = False,
    moving: Sequence[int] = (),
    close_to_m: float | None = None,
    subs_at_one_place: bool = False,
    real_time: bool | None = None,
    live_speed: float = float("inf"),
) -> AudioDevice:
    """The rig of a job with its microphones at the placement of a spot: this computer's audio, or the rehearsal rig.

    Parameters
    ----------
    repeat : int
        Which of several recordings that are averaged.
    with_loop : bool
        Record the loop's input too, as the last.
    together : bool
        All microphones are at that spot, to be compared.
    moving : sequence of int
        Spots that the microphone is carried past (in the rehearsal; a real one is carried by hand).
    close_to_m : float or None
        The microphone stands this close to whichever sub sounds; the ceiling that suits the room is higher there.
    subs_at_one_place : bool
        Every sub is carried to where the first one stands (in the rehearsal).
    real_time : bool or None
        Whether the rehearsal takes as long as it would; None as the job has it.
    live_speed : float
        How many times faster live sound of the rehearsal may pass otherwise.

    Raises
    ------
    Conflict
        If the loop is wanted and none is joined.
    """
    rig, interface = job.rig, job.rig.interface
    if with_loop and interface.loop_input is None:
        raise Conflict("no loop is joined.", where="loop", remedy="Say which output and input the cable joins.")
    if not interface.simulated:
        inputs = (*rig.inputs, *((interface.loop_input,) if with_loop else ()))
        recorder = (interface.recorder_name, interface.recorder_host) if interface.recorder_name else None
        return SoundCard(
            name=interface.card_name,
            host=interface.card_host,
            inputs=inputs,
            recorder=recorder,
            ceiling=job.ceiling_at(close_to_m),
        )
    placement = placement_of(job, spot_id)
    # At the end of the walk there may be more microphones than spots left: they wait at the last one.
    spots = (
        [spot_id] * len(rig.inputs) if together else [*placement, *placement[-1:] * (len(rig.inputs) - len(placement))]
    )
    first, *others = (job.spot(spot).place for spot in spots)
    one_place = next((s.place for s in job.speakers if s.is_sub), None) if subs_at_one_place else None
    return RehearsalRig(
        room=job.room,
        speakers={s.output: _placed(s, job.plan, one_place) for s in job.speakers},
        surfaces=surfaces_of_plan(job.room, job.plan.reverberation),
        placing=f"{job.seed}/{round_name}" if rig.rehearsal.placed_by_hand else "",
        microphone=first,
        more_microphones=tuple(others),
        pointing=rig.pointing or "speakers",
        loop=with_loop,
        own_clock=interface.own_clock,
        microphone_gain_db=rig.levels.microphone_gain_db,
        knobs_db=rig.rehearsal.knobs_db,
        desks=tuple(desk_top(box) for box in job.plan.boxes if box.kind == "desk"),
        others=rig.others,
        # A rehearsed room hears what a processor on the network holds as it would hear the rehearsal's own.
        processor=replace(
            job.processor if rig.processor.address else job.simulated, by_themselves=job.processor.by_themselves
        ),
        seed=f"{job.seed}/{round_name}/{spot_id}/{attempt}" + (f"/{repeat}" if repeat else ""),
        real_time=rig.rehearsal.pace == "real time" if real_time is None else real_time,
        faults=rig.rehearsal.faults,
        ceiling=job.ceiling_at(close_to_m),
        live_speed=live_speed,
        path=tuple(job.spot(channel).place for channel in moving),
        close_to=close_to_m,
        burst=job.channels[0] if (job.spot(spot_id).number, attempt) == (2, 1) else "",
    )


def _placed(speaker: Speaker, plan: RoomPlan, subs_at: Point | None) -> PlacedSpeaker:
    """A speaker as it stands and looks; `subs_at` is where every sub is carried, None where they stay."""
    place = subs_at if speaker.is_sub and subs_at else speaker.place
    x, y = axis_of(speaker, plan)
    # Whoever turns a speaker to the seat also tilts it.
    toward = plan.main_seat.place.as_array() - place.as_array() if speaker.aim == "main seat" else np.array([x, y, 0.0])
    length = float(np.linalg.norm(toward))
    direction = toward / length if length > 1e-6 else np.array([0.0, 1.0, 0.0])
    axis = (float(direction[0]), float(direction[1]), float(direction[2]))
    return PlacedSpeaker(channel=speaker.channel, place=place, axis=axis, low_limit_hz=speaker.low_limit_hz)


def processor_of(job: Job, *, hold: Callable[[ProcessorState], None]) -> Processor:
    """The processor that Dolce loads in a job; `hold` keeps the memory of a simulated one."""
    use = job.rig.processor
    if use.address:
        return NetworkProcessor(use)
    if use.can.simulated:
        return RehearsalProcessor(use, held=job.simulated, hold=hold)
    return SaidByPerson(use, reported=job.processor)
