"""What was measured of every channel at the seats that levels are matched at."""

from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from dolce.core.acoustics import speed_of_sound
from dolce.core.alignment import (
    ChannelReading,
    SeatArrivals,
    common_polarity,
    level_band_hz,
    matched_levels_db,
    mid_level_db,
    seat_arrivals,
    with_subs_by_plan,
)
from dolce.core.dsp import energy_mean_db, together_db
from dolce.core.geometry import distance_m
from dolce.core.job import Job, TakeRecord, moved_between
from dolce.core.levels import LEVEL_BAND_HZ
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.subs import SUBS, SubGroup, SubSetting
from dolce.core.tuning import Alignment, SeatWeighting, group_levels_db
from dolce.services.align.bass_takes import BassTakes, bass_responses
from dolce.services.read.round_curves import main_seat_weights, spot_weights
from dolce.store import UnitOfWork


def readings_of(
    work: UnitOfWork,
    job: Job,
    round_id: int,
    *,
    seat_weighting: SeatWeighting | None = None,
    since: int | None = None,
    wanted_db: Mapping[str, float] | None = None,
    band_hz: tuple[float, float] = LEVEL_BAND_HZ,
) -> list[ChannelReading]:
    """Level and polarity over the spots of the main seat, or of a seat weighting; arrival at the main seat's centre,
    by all of its spots (`seat_arrivals_of`).

    Levels are known within one group of takes (`TakeRecord.level_group`), and unknown for channels that have none of
    it. Subs count as playing together, and arrive as the plan says.

    `since` is an earlier round: the level is then that round's, changed by what changed at the spots that both rounds
    have. So a round of few spots is not held against the average over others.

    `wanted_db` is by how much channels are wanted louder than level: that much is taken off. `band_hz` is the mains'.
    """
    centre, weights = job.plan.centre_spot, level_weights(job, seat_weighting)
    if centre is None:
        return []
    wanted = {*weights, centre.id}
    takes = _levels_at(work, round_id, wanted | {spot.id for spot in job.main_spots})
    arrivals = _seat_arrivals(job, takes).arrival_s
    takes = {channel: {spot: take for spot, take in own.items() if spot in wanted} for channel, own in takes.items()}
    earlier = {} if since is None else _levels_at(work, since, weights)
    more = together_db(len(job.plan.subs))
    both = {
        channel: {spot: take for spot, take in own.items() if spot in earlier.get(channel, {})}
        for channel, own in takes.items()
    }
    levels = _levels_db(job, takes, weights, band_hz)
    if since is not None:
        shared = {channel: {spot: earlier[channel][spot] for spot in own} for channel, own in both.items()}
        whole, before, after = (_levels_db(job, one, weights, band_hz) for one in (earlier, shared, both))
        # A level, changed by what changed at some of its spots.
        levels = {
            channel: whole[channel] + after[channel] - before[channel]
            for channel in takes
            if channel in whole and channel in before and channel in after
        }
    readings = []
    for speaker in job.speakers:
        own = takes.get(speaker.channel, {})
        at_centre = own.get(centre.id)
        if at_centre is None:
            continue
        band = level_band_hz(is_sub=True) if speaker.is_sub else band_hz
        level = levels.get(speaker.channel)
        if level is not None and wanted_db:
            level -= wanted_db.get(speaker.channel, 0.0)
        readings.append(
            ChannelReading(
                channel=speaker.channel,
                is_sub=speaker.is_sub,
                level_db=level,
                polarity=common_polarity([take.polarity for take in own.values() if take.has_response]),
                arrival_s=arrivals.get(speaker.channel),
                together_db=more if speaker.is_sub else 0.0,
                spread_db=_spread_db(own.values(), weights, band),
            )
        )
    return with_subs_by_plan(readings, distance_m=_distances_m(job), speed_m_s=speed_of_sound(job.room.temperature_c))


def seat_arrivals_of(work: UnitOfWork, job: Job, round_id: int) -> SeatArrivals:
    """Arrivals of the mains at the main seat's centre, of those that are known there; from those of its spots that have
    a known arrival of each.
    """
    return _seat_arrivals(job, _levels_at(work, round_id, {spot.id for spot in job.main_spots}))


def _seat_arrivals(job: Job, takes: Mapping[str, Mapping[int, TakeRecord]]) -> SeatArrivals:
    centre, main = job.plan.centre_spot, {spot.id for spot in job.main_spots}
    known = {
        speaker.channel: {
            spot: take for spot, take in takes.get(speaker.channel, {}).items() if spot in main and take.arrival_known
        }
        for speaker in job.speakers
        if not speaker.is_sub
    }
    if centre is None:
        return seat_arrivals({}, {}, {})
    known = {channel: own for channel, own in known.items() if centre.id in own}
    spots = sorted(set.intersection(*map(set, known.values()))) if known else []
    speed = speed_of_sound(job.room.temperature_c)

    def flight_s(take: TakeRecord) -> float:
        # Where things stood when it was taken.
        return (
            distance_m(
                take.speaker_place or job.speaker(take.channel).place, take.spot_place or job.spot(take.spot_id).place
            )
            / speed
        )

    return seat_arrivals(
        {channel: [own[spot].arrival_s for spot in spots] for channel, own in known.items()},
        {channel: [flight_s(own[spot]) for spot in spots] for channel, own in known.items()},
        {channel: flight_s(own[centre.id]) for channel, own in known.items()},
    )


def _levels_at(work: UnitOfWork, round_id: int, spots: Container[int]) -> dict[str, dict[int, TakeRecord]]:
    """Usable takes by channel and spot."""
    found: dict[str, dict[int, TakeRecord]] = {}
    for take in work.takes.latest(round_id):
        if take.usable and take.spot_id in spots:
            found.setdefault(take.channel, {})[take.spot_id] = take
    return found


def level_group_of(takes: Mapping[str, Mapping[int, TakeRecord]]) -> str | None:
    """The group whose levels are held against each other: the one that most channels have, of equals the rig's."""
    count: dict[str, int] = {}
    for own in takes.values():
        for group in {take.level_group for take in own.values() if take.level_group is not None}:
            count[group] = count.get(group, 0) + 1
    return max(count, key=lambda group: (count[group], group == "rig"), default=None)


def level_weights(job: Job, seat_weighting: SeatWeighting | None) -> dict[int, float]:
    """Weight by id of every spot that levels are matched at: those of a seat weighting, or of the main seat alone."""
    return main_seat_weights(job) if seat_weighting is None else spot_weights(job, seat_weighting)


def _levels_db(
    job: Job, takes: Mapping[str, Mapping[int, TakeRecord]], weights: Mapping[int, float], band_hz: tuple[float, float]
) -> dict[str, float]:
    """Level of each channel: of the energy average over its takes of one group, mains held against each other.

    Channels without a take of that group at a spot that counts are left out.
    """
    group = level_group_of(takes)
    means = {}
    for channel, own in takes.items():
        known = [take for take in own.values() if take.level_group == group and weights.get(take.spot_id, 0) > 0]
        if group is not None and known:
            means[channel] = energy_mean_db(
                [take.level_db for take in known], weights=[weights[take.spot_id] for take in known]
            )
    subs = {speaker.channel for speaker in job.speakers if speaker.is_sub}
    band = level_band_hz(is_sub=True)
    return {
        **matched_levels_db(ANALYSIS_GRID_HZ, {c: one for c, one in means.items() if c not in subs}, band_hz=band_hz),
        **{c: mid_level_db(ANALYSIS_GRID_HZ, one, band_hz=band) for c, one in means.items() if c in subs},
    }


def _spread_db(takes: Iterable[TakeRecord], weights: Mapping[int, float], band_hz: tuple[float, float]) -> float:
    """Weighted standard deviation of the level over the spots that count."""
    counting = [take for take in takes if weights.get(take.spot_id, 0) > 0]
    if len(counting) < 2:
        return 0.0
    levels = np.array([mid_level_db(ANALYSIS_GRID_HZ, take.level_db, band_hz=band_hz) for take in counting])
    weight = [weights[take.spot_id] for take in counting]
    return float(np.sqrt(np.average((levels - np.average(levels, weights=weight)) ** 2, weights=weight)))


def _distances_m(job: Job) -> dict[str, float]:
    """From every speaker to the main seat's centre spot, by the plan."""
    spot = job.plan.centre_spot
    ear = job.seat.place if spot is None else spot.place
    return {s.channel: distance_m(s.place, ear) for s in job.speakers}


def moved_words(work: UnitOfWork, job: Job, round_id: int) -> tuple[str, ...]:
    """What stood at several places while a round was taken: speakers by code, spots by number."""
    there = {spot.id for spot in job.spots}
    found = moved_between(t for t in work.takes.latest(round_id) if t.usable and t.spot_id in there)
    return (*found.channels, *(job.at_spot(spot) for spot in found.spots))


def group_reading(
    kept: BassTakes,
    work: UnitOfWork,
    job: Job,
    round_id: int,
    group: SubGroup,
    *,
    weights: Mapping[int, float],
    readings: Sequence[ChannelReading],
) -> ChannelReading | None:
    """All subs as one, with what they get among themselves; None where nothing of them can be summed.

    They arrive with the last of the mains: what they get against these is found by phase.
    """
    subs = [sub for sub in group.settings if sub in job.channels]
    responses = bass_responses(kept, work, job, round_id, subs, spots=tuple(weights))
    if not subs or any(sub not in responses.channels for sub in subs):
        return None
    levels = group_levels_db(group, responses)
    known = ~np.isnan(levels)
    if not known.any():
        return None
    weight = np.array([weights[spot] for spot in responses.spots])
    arrivals = [reading.arrival_s for reading in readings if not reading.is_sub and reading.arrival_s is not None]
    all_known = len(arrivals) == sum(not reading.is_sub for reading in readings)
    return ChannelReading(
        channel=SUBS,
        is_sub=True,
        level_db=float(energy_mean_db(levels[known], weights=weight[known])),
        arrival_s=max(arrivals, default=None) if all_known else None,
        arrival_by="plan",
        polarity="normal",
        spread_db=float(
            np.sqrt(
                np.average(
                    (levels[known] - np.average(levels[known], weights=weight[known])) ** 2, weights=weight[known]
                )
            )
        ),
    )


def aligned_readings(
    kept: BassTakes,
    work: UnitOfWork,
    job: Job,
    round_id: int,
    alignment: Alignment,
    *,
    wanted_db: Mapping[str, float] | None = None,
    since: int | None = None,
) -> list[ChannelReading]:
    """Of a round as it was taken; subs as one where an alignment has them so, with what the takes themselves hold."""
    readings = readings_of(
        work,
        job,
        round_id,
        seat_weighting=alignment.seat_weighting,
        band_hz=alignment.levels.band_hz,
        wanted_db=wanted_db,
        since=since,
    )
    if alignment.subs is None:
        return readings
    as_taken = SubGroup.of(dict.fromkeys(alignment.subs.settings, SubSetting()), how="as they are")
    group = group_reading(
        kept, work, job, round_id, as_taken, weights=level_weights(job, alignment.seat_weighting), readings=readings
    )
    if group is not None and group.level_db is not None and wanted_db:
        # A target lifts all subs alike; where it lifts one more, the most of it is asked of the sum.
        group = replace(group, level_db=group.level_db - max(wanted_db.get(sub, 0.0) for sub in as_taken.settings))
    return [one for one in readings if not one.is_sub] + ([group] if group else [])
