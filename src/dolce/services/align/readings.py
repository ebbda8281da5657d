"""What was measured of every channel in a round: the takes of it, and what they say together."""

from collections.abc import Container, Mapping, Sequence
from dataclasses import replace

from dolce.core.alignment import ChannelReading, SeatArrivals
from dolce.core.job import Job, TakeRecord, moved_between
from dolce.core.levels import LEVEL_BAND_HZ
from dolce.core.subs import SubGroup, SubSetting
from dolce.core.tuning import Alignment, SeatWeighting, level_weights, readings
from dolce.services.align.bass_takes import BassTakes, bass_responses
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
    """Of a round, at the spots of the main seat or of a seat weighting; `since` is an earlier round. See
    `dolce.core.tuning.readings.readings_of`.
    """
    weights = level_weights(job, seat_weighting)
    takes = _takes_at(work, round_id, {*weights, *(spot.id for spot in job.main_spots)})
    earlier = None if since is None else _takes_at(work, since, weights)
    return readings.readings_of(job, takes, weights=weights, earlier=earlier, wanted_db=wanted_db, band_hz=band_hz)


def seat_arrivals_of(work: UnitOfWork, job: Job, round_id: int) -> SeatArrivals:
    """Of a round; see `dolce.core.tuning.readings.seat_arrivals_of`."""
    return readings.seat_arrivals_of(job, _takes_at(work, round_id, {spot.id for spot in job.main_spots}))


def _takes_at(work: UnitOfWork, round_id: int, spots: Container[int]) -> dict[str, dict[int, TakeRecord]]:
    """Usable takes by channel and spot."""
    found: dict[str, dict[int, TakeRecord]] = {}
    for take in work.takes.latest(round_id):
        if take.usable and take.spot_id in spots:
            found.setdefault(take.channel, {})[take.spot_id] = take
    return found


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
    main_channels: Sequence[ChannelReading],
) -> ChannelReading | None:
    """All subs of a round as one; see `dolce.core.tuning.readings.group_reading`."""
    subs = [sub for sub in group.settings if sub in job.channels]
    responses = bass_responses(kept, work, job, round_id, subs, spots=tuple(weights))
    return readings.group_reading(job, group, responses, weights=weights, readings=main_channels)


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
    found = readings_of(
        work,
        job,
        round_id,
        seat_weighting=alignment.seat_weighting,
        band_hz=alignment.levels.band_hz,
        wanted_db=wanted_db,
        since=since,
    )
    if alignment.subs is None:
        return found
    if alignment.common_bass is not None:  # a sub alone is no part of it that could be held against main channels
        return [reading for reading in found if not reading.is_sub]
    as_taken = SubGroup.of(dict.fromkeys(alignment.subs.settings, SubSetting()), how="as they are")
    group = group_reading(
        kept, work, job, round_id, as_taken, weights=level_weights(job, alignment.seat_weighting), main_channels=found
    )
    if group is not None and group.level_db is not None and wanted_db:
        # A target lifts all subs alike; where it lifts one more, the most of it is asked of the sum.
        group = replace(group, level_db=group.level_db - max(wanted_db.get(sub, 0.0) for sub in as_taken.settings))
    return [reading for reading in found if not reading.is_sub] + ([group] if group else [])
