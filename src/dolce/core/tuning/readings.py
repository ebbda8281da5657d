"""What takes say of every channel at the seats that levels are matched at."""

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

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
from dolce.core.job import Job, TakeRecord
from dolce.core.levels import LEVEL_BAND_HZ
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.subs import SUBS, SubGroup
from dolce.core.tuning.bass_sums import group_levels_db
from dolce.core.tuning.prediction import Responses

Takes = Mapping[str, Mapping[int, TakeRecord]]  # usable ones, by channel and spot


def readings_of(
    job: Job,
    takes: Takes,
    *,
    weights: Mapping[int, float],
    earlier: Takes | None = None,
    wanted_db: Mapping[str, float] | None = None,
    band_hz: tuple[float, float] = LEVEL_BAND_HZ,
) -> list[ChannelReading]:
    """Level and polarity over the spots that count; arrival at the main seat's centre, by all of its spots
    (`seat_arrivals_of`). None without a spot at the main seat.

    Levels are known within one group of takes (`TakeRecord.level_group`), and unknown for channels that have none of
    it. Subs count as playing together, and arrive as the plan says.

    Parameters
    ----------
    takes : of the round that is read
    weights : of the spots that count, by id (`level_weights`)
    earlier : takes of an earlier round, where there is one: the level is then that round's, changed by what changed at
        the spots that both rounds have. So a round of few spots is not held against the average over others.
    wanted_db : by how much channels are wanted louder than level; that much is taken off
    band_hz : where main channels are held against each other
    """
    centre = job.plan.centre_spot
    if centre is None:
        return []
    arrivals = seat_arrivals_of(job, takes).arrival_s
    counting = {
        channel: {k: t for k, t in of_channel.items() if k in weights or k == centre.id}
        for channel, of_channel in takes.items()
    }
    more = together_db(len(job.plan.subs))
    levels = _levels_db(job, counting, weights, band_hz)
    if earlier is not None:
        both = {
            channel: {spot: take for spot, take in of_channel.items() if spot in earlier.get(channel, {})}
            for channel, of_channel in counting.items()
        }
        shared = {
            channel: {spot: earlier[channel][spot] for spot in of_channel}
            for channel, of_channel in both.items()
            if of_channel
        }
        whole, before, after = (_levels_db(job, by_channel, weights, band_hz) for by_channel in (earlier, shared, both))
        # A level, changed by what changed at some of its spots.
        levels = {
            channel: whole[channel] + after[channel] - before[channel]
            for channel in counting
            if channel in whole and channel in before and channel in after
        }
    readings = []
    for speaker in job.speakers:
        counting_takes = counting.get(speaker.channel, {})
        if centre.id not in counting_takes:
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
                polarity=common_polarity([take.polarity for take in counting_takes.values() if take.has_response]),
                arrival_s=arrivals.get(speaker.channel),
                together_db=more if speaker.is_sub else 0.0,
                spread_db=_spread_db(counting_takes.values(), weights, band),
            )
        )
    return with_subs_by_plan(readings, distance_m=distances_m(job), speed_m_s=speed_of_sound(job.room.temperature_c))


def seat_arrivals_of(job: Job, takes: Takes) -> SeatArrivals:
    """Arrivals of the main channels at the main seat's centre, where known there; from those of its spots that have
    a known arrival of each.
    """
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
    known = {channel: of_channel for channel, of_channel in known.items() if centre.id in of_channel}
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
        {channel: [of_channel[spot].arrival_s for spot in spots] for channel, of_channel in known.items()},
        {channel: [flight_s(of_channel[spot]) for spot in spots] for channel, of_channel in known.items()},
        {channel: flight_s(of_channel[centre.id]) for channel, of_channel in known.items()},
    )


def level_group_of(takes: Takes) -> str | None:
    """The group whose levels are held against each other: the one that most channels have, of equals the rig's."""
    count: dict[str, int] = {}
    for of_channel in takes.values():
        for group in {take.level_group for take in of_channel.values() if take.level_group is not None}:
            count[group] = count.get(group, 0) + 1
    return max(count, key=lambda group: (count[group], group == "rig"), default=None)


def group_reading(
    job: Job, group: SubGroup, responses: Responses, *, weights: Mapping[int, float], readings: Sequence[ChannelReading]
) -> ChannelReading | None:
    """All subs as one, with what they get among themselves; None where nothing of them can be summed.

    They arrive with the last of the main channels: what they get against these is found by phase.

    Parameters
    ----------
    responses : of the subs, at spots that count
    weights : of these spots, by id
    readings : of the main channels
    """
    subs = [sub for sub in group.settings if sub in job.channels]
    if not subs or any(sub not in responses.channels for sub in subs):
        return None
    levels = group_levels_db(group, responses)
    known = ~np.isnan(levels)
    if not known.any():
        return None
    weight = np.array([weights[spot] for spot in responses.spots])[known]
    arrivals = [reading.arrival_s for reading in readings if not reading.is_sub and reading.arrival_s is not None]
    all_known = len(arrivals) == sum(not reading.is_sub for reading in readings)
    return ChannelReading(
        channel=SUBS,
        is_sub=True,
        level_db=float(energy_mean_db(levels[known], weights=weight)),
        arrival_s=max(arrivals, default=None) if all_known else None,
        arrival_by="plan",
        polarity="normal",
        spread_db=_deviation(levels[known], weight),
    )


def _levels_db(job: Job, takes: Takes, weights: Mapping[int, float], band_hz: tuple[float, float]) -> dict[str, float]:
    """Level of each channel: of the energy average over its takes of one group, main channels held against each other.

    Channels without a take of that group at a spot that counts are left out.
    """
    group = level_group_of(takes)
    filter_type = {}
    for channel, of_channel in takes.items():
        known = [take for take in of_channel.values() if take.level_group == group and weights.get(take.spot_id, 0) > 0]
        if group is not None and known:
            filter_type[channel] = energy_mean_db(
                [take.level_db for take in known], weights=[weights[take.spot_id] for take in known]
            )
    subs = set(job.subs)
    band = level_band_hz(is_sub=True)
    return {
        **matched_levels_db(
            ANALYSIS_GRID_HZ, {c: gains for c, gains in filter_type.items() if c not in subs}, band_hz=band_hz
        ),
        **{c: mid_level_db(ANALYSIS_GRID_HZ, gains, band_hz=band) for c, gains in filter_type.items() if c in subs},
    }


def _spread_db(takes: Iterable[TakeRecord], weights: Mapping[int, float], band_hz: tuple[float, float]) -> float:
    """Weighted standard deviation of the level over the spots that count."""
    counting = [take for take in takes if weights.get(take.spot_id, 0) > 0]
    if len(counting) < 2:
        return 0.0
    levels = np.array([mid_level_db(ANALYSIS_GRID_HZ, take.level_db, band_hz=band_hz) for take in counting])
    return _deviation(levels, np.array([weights[take.spot_id] for take in counting]))


def _deviation(levels_db: NDArray, weight: NDArray) -> float:
    """Weighted standard deviation."""
    return float(np.sqrt(np.average((levels_db - np.average(levels_db, weights=weight)) ** 2, weights=weight)))


def distances_m(job: Job) -> dict[str, float]:
    """From every speaker to the main seat's centre spot, by the plan."""
    spot = job.plan.centre_spot
    ear = job.seat.place if spot is None else spot.place
    return {s.channel: distance_m(s.place, ear) for s in job.speakers}
