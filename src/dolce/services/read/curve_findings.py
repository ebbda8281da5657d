"""What a channel's curve says, held against the plan, its ringing and its direct sound."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import modes_of_box
from dolce.core.job import Job, TakeRecord
from dolce.core.levels import mid_bands
from dolce.core.reading import (
    CurveFinding,
    Evidence,
    direct_sound,
    findings_of_curve,
    map_of_cycles,
    ringing_s,
)
from dolce.core.response import ANALYSIS_GRID_HZ, ImpulseResponse, find_arrival, level_on_grid, smoothed_level_db
from dolce.core.room import SUB_CODES, box_model, reflections_of
from dolce.services.read.round_curves import ChannelCurves
from dolce.store import UnitOfWork

_MODES_TO_HZ = 320.0
_RING_HZ = mid_bands(per_octave=24, from_hz=20, to_hz=400)
_RING_AT_S = np.linspace(0.0, 0.6, 61)
_RING_CYCLES = 10.0
_GATE_MS = 3.0
_MOST_OTHERS = 3


def curve_findings(work: UnitOfWork, job: Job, curves: ChannelCurves, beside: dict[str, ChannelCurves],
                   at: TakeRecord) -> list[CurveFinding]:
    """Findings of one channel, `at` being the take that stands for its place; `beside` are the others' curves."""
    there = {spot.id for spot in job.spots}
    takes = [take for take in curves.takes if take.spot_place is not None or take.spot_id in there]
    if curves.channel not in job.channels:       # several at once: there is no one place to hold against the plan
        return []
    places = [take.spot_place or job.spot(take.spot_id).place for take in takes]
    if not places:
        return []
    levels = smoothed_level_db(np.array([take.level_db for take in takes]), per_octave=12)
    box = box_model(job.plan)
    modes = modes_of_box(box.size_m, up_to_hz=_MODES_TO_HZ, speed_m_s=box.speed_m_s)
    speaker = at.speaker_place or job.speaker(curves.channel).place
    drive = modes.pressure_at(box.within([speaker])) * modes.pressure_at(box.within(places))
    number = job.channels.index(curves.channel)
    reflections = reflections_of(job.plan, listeners=places)
    notches = {name: reflections.cancellations.frequency_hz[b, number]
               for b, name in enumerate(reflections.boundaries)}
    ring_s, direct, others = np.full(_RING_HZ.size, np.nan), None, []
    is_sub = curves.channel in SUB_CODES
    same_spot = {take.id: take for take in ([] if is_sub else _same_spot(beside, at))}
    for take_id, response in work.takes.responses([at.id, *same_spot]):
        if take_id in same_spot:
            others.append(_direct(response, same_spot[take_id].arrival_s))
            continue
        arrival = at.arrival_s if at.arrival_known else find_arrival(response).time_s
        ring_s = _ringing(response, arrival)
        direct = None if is_sub else _direct(response, arrival)
    return findings_of_curve(ANALYSIS_GRID_HZ, levels, Evidence(
        modes=modes, drive=drive, ring_hz=_RING_HZ, ring_s=ring_s,
        notches_hz=notches, direct_db=direct, others_direct_db=others))



def _same_spot(beside: dict[str, ChannelCurves], at: TakeRecord) -> list[TakeRecord]:
    """Takes of other mains at the same spot, through the same microphone and rig."""
    found = [take for channel, curves in beside.items() if channel != at.channel and channel not in SUB_CODES
             for take in curves.takes if take.spot_id == at.spot_id and take.source == at.source and take.arrival_known]
    return found[:_MOST_OTHERS]


def _ringing(response: ImpulseResponse, arrival_s: float) -> NDArray:
    return ringing_s(map_of_cycles(response, at_hz=_RING_HZ, at_s=_RING_AT_S, arrival_s=arrival_s,
                                   cycles=_RING_CYCLES))


def _direct(response: ImpulseResponse, arrival_s: float) -> NDArray:
    return level_on_grid(direct_sound(response, arrival_s=arrival_s, gate_ms=_GATE_MS), at_hz=ANALYSIS_GRID_HZ,
                         per_octave=12)
