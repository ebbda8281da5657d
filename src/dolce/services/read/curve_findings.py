"""What a channel's curve says, held against the plan, its ringing and its direct sound."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import modes_of_box
from dolce.core.correction import low_frequency_extension_hz
from dolce.core.dsp import mid_bands
from dolce.core.geometry import Point
from dolce.core.job import Job, TakeRecord, bass_alone, channels_of
from dolce.core.processor import ProcessorState
from dolce.core.reading import (
    CurveFinding,
    Evidence,
    ExpectedLevels,
    direct_sound,
    early_reflections,
    early_sound,
    findings_of_curve,
    map_of_cycles,
    ringing_s,
)
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    SUB_TOP_HZ,
    ImpulseResponse,
    find_arrival,
    level_on_grid,
    smoothed_level_db,
)
from dolce.core.room import SUB_CODES, box_field, box_model, reflections_of
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.store import UnitOfWork

_MODES_TO_HZ = 320.0
_RING_HZ = mid_bands(per_octave=24, from_hz=20, to_hz=400)
_RING_AT_S = np.linspace(0.0, 0.6, 61)
_RING_CYCLES = 10.0
_GATE_MS = 3.0
EXPECTED_HZ = mid_bands(per_octave=24, from_hz=18, to_hz=600)  # where a box model is asked
_MOST_OTHERS = 3


def curve_findings(
    work: UnitOfWork,
    job: Job,
    curves: ChannelCurves,
    beside: dict[str, ChannelCurves],
    at: TakeRecord,
    *,
    crossover_hz: float = 0.0,
    untouched: ChannelCurves | None = None,
) -> list[CurveFinding]:
    """Findings of one channel, `at` being the take that stands for its place; `beside` are the others' curves.

    `crossover_hz` is where the processor handed over to subs, 0 for nowhere; `untouched` the channel before that.
    """
    there = {spot.id for spot in job.spots}
    takes = [take for take in curves.takes if take.spot_place is not None or take.spot_id in there]
    places = [take.spot_place or job.spot(take.spot_id).place for take in takes]
    if not places:
        return []
    levels = smoothed_level_db(np.array([take.level_db for take in takes]), per_octave=12)
    box = box_model(job.plan)
    modes = modes_of_box(box.size_m, up_to_hz=_MODES_TO_HZ, speed_m_s=box.speed_m_s)
    sounding = [c for c in at.sounded or (curves.channel,) if c in job.channels]
    if not sounding:
        return []
    sources = [speaker_place(job, channel, at) for channel in sounding]
    drive = modes.pressure_at(box.within(sources)).sum(axis=0) * modes.pressure_at(box.within(places))
    notches = {}
    if len(sounding) == 1:
        number = job.channels.index(sounding[0])
        reflections = reflections_of(job.plan, listeners=places)
        notches = {
            name: reflections.cancellations.frequency_hz[b, number] for b, name in enumerate(reflections.boundaries)
        }
    field = box_field(job.plan, sources, places, at_hz=EXPECTED_HZ)
    seen: dict[str, tuple[float, float]] = {}
    ring_s, direct, others = np.full(_RING_HZ.size, np.nan), None, []
    bass = bass_alone(curves.channel)
    alone = curves.channel in job.channels
    same_spot = {take.id: take for take in (_same_spot(beside, at) if alone and not bass else [])}
    parts, together = _parts(curves, beside, levels, takes)
    for take_id, response in work.takes.responses([at.id, *same_spot]):
        if take_id in same_spot:
            others.append(_direct(response, same_spot[take_id].arrival_s))
            continue
        arrival = at.arrival_s if at.arrival_known else find_arrival(response).time_s
        ring_s = _ringing(response, arrival)
        if len(sounding) == 1 and at in takes:
            seen = _seen(response, arrival, job, sounding[0], sources[0], places[takes.index(at)])
        direct = _direct(response, arrival) if alone and not bass else None
    return findings_of_curve(
        ANALYSIS_GRID_HZ,
        levels,
        Evidence(
            modes=modes,
            drive=drive,
            ring_hz=_RING_HZ,
            ring_s=ring_s,
            notches_hz=notches,
            seen=seen,
            expected=ExpectedLevels(field, ANALYSIS_GRID_HZ),
            plays_hz=_plays_hz(job, curves, handed_over=bool(crossover_hz) or len(sounding) > 1),
            direct_db=direct,
            others_direct_db=others,
            parts_db=parts,
            together_db=together,
            screened=alone and job.speaker(curves.channel).screened,
            crossover_hz=crossover_hz,
            without_crossover_db=_before(untouched, takes),
        ),
    )


def _seen(
    response: ImpulseResponse, arrival_s: float, job: Job, channel: str, speaker: Point, spot: Point
) -> dict[str, tuple[float, float]]:
    """Surfaces whose reflections one take shows: how much later in s, and level against the direct sound in dB."""
    plan = job.plan.replaced(replace(job.plan.speaker(channel), place=speaker))
    expected, number = reflections_of(plan, listeners=[spot]), plan.channels.index(channel)
    later = (expected.reflected_m[:, number] - expected.direct_m[number]) / plan.speed_m_s
    found = early_reflections(
        [early_sound(response, arrival_s=arrival_s)], dict(zip(expected.boundaries, later, strict=True))
    )
    return {one.surface: (one.later_s, one.level_db) for one in found if one.surface}


def _plays_hz(job: Job, curves: ChannelCurves, *, handed_over: bool) -> tuple[float, float]:
    """Between which frequencies a row plays: not below where its loudspeaker ends, and subs no higher than they do."""
    bass = bass_alone(curves.channel)
    if handed_over or curves.channel not in job.channels:
        return 0.0, SUB_TOP_HZ if bass else float("inf")
    end = low_frequency_extension_hz(ANALYSIS_GRID_HZ, curves.average.level_db, is_sub=bass)
    return end, SUB_TOP_HZ if bass else float("inf")


def speaker_place(job: Job, channel: str, at: TakeRecord) -> Point:
    """Where a speaker stood at a take, or stands by the plan."""
    taken_at = at.speaker_place if at.channel == channel else None
    return taken_at or job.speaker(channel).place


def _parts(
    curves: ChannelCurves, beside: dict[str, ChannelCurves], levels: NDArray, takes: list[TakeRecord]
) -> tuple[list[NDArray], NDArray | None]:
    """Of a row of several channels: levels of each alone, and of all, at the spots where all were taken."""
    channels = channels_of(curves.channel)
    if len(channels) < 2 or any(channel not in beside for channel in channels):
        return [], None
    at_spots = [{take.spot_id: take.level_db for take in beside[c].takes} for c in channels]
    common = [k for k, take in enumerate(takes) if all(take.spot_id in found for found in at_spots)]
    if not common:
        return [], None
    spots = [takes[k].spot_id for k in common]
    alone = [smoothed_level_db(np.array([found[spot] for spot in spots]), per_octave=12) for found in at_spots]
    return alone, levels[common]


def handed_over_at_hz(state: ProcessorState, at: TakeRecord) -> float:
    """Where the processor handed over when a main was taken whose bass went to subs; 0 where it did not."""
    found = next((state.crossover_of(c) for c in at.sounded if not bass_alone(c)), None)
    return found.frequency_hz if found else 0.0


def _before(untouched: ChannelCurves | None, takes: list[TakeRecord]) -> NDArray | None:
    """Levels of the channel before, at the spots that it has in common with takes; None where it has none."""
    if untouched is None:
        return None
    spots = {take.spot_id for take in takes}
    levels = [take.level_db for take in untouched.takes if take.spot_id in spots]
    return smoothed_level_db(np.array(levels), per_octave=12) if levels else None


def _same_spot(beside: dict[str, ChannelCurves], at: TakeRecord) -> list[TakeRecord]:
    """Takes of other main channels at the same spot, through the same microphone and rig."""
    found = [
        take
        for channel, curves in beside.items()
        if channel != at.channel and channel not in SUB_CODES
        for take in curves.takes
        if take.spot_id == at.spot_id and take.source == at.source and take.arrival_known
    ]
    return found[:_MOST_OTHERS]


def _ringing(response: ImpulseResponse, arrival_s: float) -> NDArray:
    return ringing_s(map_of_cycles(response, at_hz=_RING_HZ, at_s=_RING_AT_S, arrival_s=arrival_s, cycles=_RING_CYCLES))


def _direct(response: ImpulseResponse, arrival_s: float) -> NDArray:
    return level_on_grid(
        direct_sound(response, arrival_s=arrival_s, gate_ms=_GATE_MS), at_hz=ANALYSIS_GRID_HZ, per_octave=12
    )
