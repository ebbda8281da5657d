"""What one spot's recordings of a row tell: response, quality, and what a person should know."""

from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import beyond_possible_s
from dolce.core.geometry import Point, distance_m
from dolce.core.job import Feed, Job
from dolce.core.response import ANALYSIS_GRID_HZ, Capture, Caution, GridLevels, clipped_samples, smoothed_level_db
from dolce.core.response.outliers import REPEATS_MATTER_DB, repeats_differ_db
from dolce.core.signals import SYNC_CODE, SYNC_FLIGHT, Excitation, excitation_of, excitation_values, kind_of
from dolce.services.takes.take_making import Playing, captured, sync_flight_s, synced_playing


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FoundTake:
    """One spot.

    Attributes
    ----------
    recordings : ndarray, shape (samples,) or (samples, repeats)
        As they came.
    repeats_db : float or None
        By how much the averaged recordings differ; None for a single one.
    played : dict
        What was played, as plain values.
    """

    spot_id: int
    capture: Capture
    levels: GridLevels
    recordings: NDArray[np.float64]
    cautions: list[Caution]
    arrival_known: bool
    repeats_db: float | None
    played: dict[str, Any]

    @property
    def spoiled(self) -> bool:
        """Whether it is worth another try."""
        return self.capture.quality.word != "clean" or any(
            caution.kind in ("drop-outs", "repeats differ", "arrival impossible") for caution in self.cautions
        )


def found_take(
    job: Job,
    feed: Feed,
    playing: Playing,
    spot_id: int,
    recordings: NDArray[np.float64],
    *,
    row: int,
    lost: int,
    through_rig: bool = True,
) -> FoundTake:
    """Analyse the recordings of one microphone, shape (repeats, samples); `row` counts microphones.

    `through_rig` says whether the rig's own inputs, with their gain and their loop, have heard them.

    Several recordings are averaged sample by sample, each brought onto the clock of the player first.

    Raises
    ------
    SweepDrowned
        Where they don't hold the test signal.
    """
    rig, flight = job.rig, sync_flight_s(job, spot_id) if playing.synced else 0.0
    cautions = [Caution(kind="drop-outs", value=lost)] if lost else []
    on_clock, known = [], True
    for recording in recordings:
        aligned, notes, clock_known = playing.one_clock(recording, sync_flight_s=flight)
        on_clock.append(aligned)
        cautions += [caution for caution in notes if caution.kind not in [c.kind for c in cautions]]
        known = known and clock_known
    loop = rig.loop_in_use if through_rig else None
    capture_of = partial(
        captured,
        sweep=playing.signal,
        microphone=rig.taken_out(row),
        is_sub=feed.bass_alone,
        loop=loop,
        gain_db=rig.levels.microphone_gain_db if through_rig else 0.0,
    )
    clipped = sum(clipped_samples(recording) for recording in recordings)
    capture, levels = capture_of(np.mean(on_clock, axis=0), clipped=clipped)
    beyond = beyond_possible_s(
        capture.arrival.time_s,
        _flights_s(job, feed, spot_id),
        latency_known=playing.synced is not None or loop is not None,
    )
    if known and beyond:
        cautions.append(Caution(kind="arrival impossible", value=beyond))
        known = False
    differ = None
    if len(on_clock) > 1:
        each = [smoothed_level_db(capture_of(recording)[1].level_db, per_octave=12) for recording in on_clock]
        differ = repeats_differ_db(each, ANALYSIS_GRID_HZ, bass=feed.bass_alone)
        if differ is not None and differ > REPEATS_MATTER_DB:
            cautions.append(Caution(kind="repeats differ", value=differ))
    if kind_of(playing.signal) == "sequence":
        cautions.append(Caution(kind="sequence"))
    elif kind_of(playing.signal) == "pink":
        cautions.append(Caution(kind="pink noise"))
    peak = max(float(np.abs(recording).max()) for recording in recordings)
    quality = replace(capture.quality, peak_dbfs=float(20 * np.log10(max(peak, 1e-15))))
    played = excitation_values(playing.signal)
    if playing.synced:
        played |= {SYNC_FLIGHT: flight, SYNC_CODE: playing.synced.code}
    return FoundTake(
        spot_id=spot_id,
        capture=replace(capture, quality=quality),
        levels=levels,
        cautions=cautions,
        recordings=recordings[0] if len(recordings) == 1 else recordings.T,
        arrival_known=known,
        repeats_db=differ,
        played=played,
    )


def _flights_s(job: Job, feed: Feed, spot_id: int) -> list[float]:
    """From every speaker that sounds to a spot, by the plan and the processor's delays."""
    place = job.spot(spot_id).place
    return [
        distance_m(job.speaker(channel).place, place) / job.plan.speed_m_s + job.processor.settings_for(channel).delay_s
        for channel in job.routed(feed.channels)[1]
    ]


def heard_again(recordings: NDArray[np.float64], played: dict[str, Any]) -> tuple[NDArray[np.float64], Excitation]:
    """A kept recording as it was analysed, shape (samples,), and what was played.

    `recordings` has shape (repeats, samples).
    """
    signal = excitation_of(played)
    playing = Playing(signal=signal, outputs=())
    if SYNC_FLIGHT in played:
        playing = synced_playing(signal, code=played.get(SYNC_CODE, 0))
    flight = played.get(SYNC_FLIGHT, 0.0)
    return np.mean([playing.one_clock(recording, sync_flight_s=flight)[0] for recording in recordings], axis=0), signal


def places_of(job: Job, feed: Feed, spot_id: int) -> tuple[Point | None, Point]:
    """Where the speaker of a row stands, if one alone sounds, and where the spot is."""
    return None if feed.together else job.speaker(feed.code).place, job.spot(spot_id).place
