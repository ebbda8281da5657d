"""Every round of a job beside the others: what each step gained, seat by seat, and did to levels and arrivals."""

from dataclasses import dataclass

import numpy as np

from dolce.core.alignment import match_of
from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Alignment, Correction, spot_deviations_db, wanted_levels_db
from dolce.services.align.readings import aligned_readings
from dolce.services.context import Context
from dolce.services.shape.present_correction import present_correction
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True)
class RoundRow:
    """One round as it was taken.

    Attributes
    ----------
    by_seat : deviation from the target in dB at every seat, mean over channels and spots; None where nothing was taken
    worst_db, worst : largest deviation of a single spot, and the channel and spot where
    level_db, arrival_s : by which channels differ; None where not known
    inverted : channels whose polarity reads inverted
    channels, spots : how many were taken
    """

    round: Round
    by_seat: tuple[float | None, ...]
    worst_db: float | None
    worst: str
    level_db: float | None
    arrival_s: float | None
    inverted: tuple[str, ...]
    channels: int
    spots: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RoundTable:
    """All rounds that hold takes, in the order in which they were taken."""

    seats: tuple[str, ...]
    rows: tuple[RoundRow, ...]


def round_table(context: Context, work: UnitOfWork, job: Job) -> RoundTable:
    """Every round against the target of the present correction, over the range of each channel."""
    correction = present_correction(work, job)
    rows = (_row(context, work, job, round_, correction) for round_ in work.takes.rounds(job.id))
    return RoundTable(
        seats=tuple(seat.name for seat in job.plan.seats), rows=tuple(row for row in rows if row is not None)
    )


def _row(context: Context, work: UnitOfWork, job: Job, present: Round, correction: Correction) -> RoundRow | None:
    seat_of = {spot.id: spot.seat_id for spot in job.spots}
    number_of = {spot.id: spot.number for spot in job.spots}
    by_seat: dict[int, list[float]] = {}
    worst, where, spots, channels = 0.0, "", set(), 0
    alignment = correction.alignment
    group = {} if alignment is None or alignment.subs is None else alignment.subs.settings
    for channel, curves in context.curves.of(work, present.id).items():
        # Subs of a group never play alone: what one of them does is no deviation of anything that is heard.
        if channel not in job.channels or channel in group:
            continue
        limits = correction.limits_for(channel)
        off = spot_deviations_db(
            ANALYSIS_GRID_HZ,
            curves.level_db,
            correction.target_db(channel, ANALYSIS_GRID_HZ),
            level_band_hz=correction.level_band_hz(channel),
            range_hz=(limits.from_hz, limits.to_hz),
        )
        channels += 1
        for take, value in zip(curves.takes, off, strict=True):
            seat = seat_of.get(take.spot_id)
            if seat is None:
                continue
            by_seat.setdefault(seat, []).append(float(value))
            spots.add(take.spot_id)
            if value > worst:
                worst, where = float(value), f"{channel} at spot {number_of[take.spot_id]}"
    if not by_seat:
        return None
    stands_on = correction.alignment or Alignment()
    # What a correction is to lift, and what the levels are to differ by, is no difference. Before subs are aligned
    # their level says nothing beside the main channels'.
    wanted = (
        wanted_levels_db(job.channels, correction, at_hz=ANALYSIS_GRID_HZ)
        if present.corrects
        else {channel: stands_on.levels.offset_db(channel) for channel in job.channels}
    )
    readings = aligned_readings(
        context.bass, work, job, present.id, stands_on, wanted_db=None if present.bypassed else wanted
    )
    match = match_of([reading for reading in readings if not (present.bypassed and reading.is_sub)])
    return RoundRow(
        round=present,
        by_seat=tuple(float(np.mean(by_seat[seat.id])) if seat.id in by_seat else None for seat in job.plan.seats),
        worst_db=worst,
        worst=where,
        level_db=match.level_db if match else None,
        arrival_s=match.arrival_s if match else None,
        inverted=tuple(reading.channel for reading in readings if reading.polarity == "inverted"),
        channels=channels,
        spots=len(spots),
    )
