"""The bass of a round from seat to seat."""

from dataclasses import dataclass
from itertools import combinations

from dolce.core.job import Job, Round
from dolce.core.reading import SeatRow, Spectrum, bass_spectrum, seat_row
from dolce.core.room import SUB_CODES
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatTable:
    """All rows of one round; `without` names feeds that lack takes at some seats."""

    round: Round
    seats: tuple[str, ...]
    rows: tuple[SeatRow, ...]
    without: tuple[str, ...]


def seat_table(work: UnitOfWork, job: Job, found: Round, channels: tuple[str, ...]) -> SeatTable:
    """The bass of the chosen feeds by seat, and of all chosen subs together."""
    seats = [
        (seat.name, [spot.id for spot in job.plan.spots_of(seat.id)])
        for seat in job.plan.seats
        if seat.weight > 0 and job.plan.spots_of(seat.id)
    ]
    counted = {spot for _, spots in seats for spot in spots}
    takes = {
        take.id: take
        for take in work.takes.latest(found.id)
        if take.usable and take.has_response and take.spot_id in counted and take.channel in channels
    }
    spectra: dict[str, dict[int, Spectrum]] = {}
    for take_id, response in work.takes.responses(list(takes)):
        spectra.setdefault(takes[take_id].channel, {})[takes[take_id].spot_id] = bass_spectrum(response)
    subs = [channel for channel in channels if channel in SUB_CODES and channel in spectra]
    groups = [some for count in range(1, len(subs) + 1) for some in combinations(subs, count)]
    groups += [(channel,) for channel in channels if channel not in SUB_CODES]
    rows = {group: seat_row(group, spectra, seats) for group in groups}
    return SeatTable(
        round=found,
        seats=tuple(name for name, _ in seats),
        rows=tuple(row for row in rows.values() if row is not None),
        without=tuple(group[0] for group, row in rows.items() if row is None and len(group) == 1),
    )
