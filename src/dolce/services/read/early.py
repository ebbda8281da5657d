"""Early reflections of the channel in front on Read, seat by seat."""

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from dolce.core.cache import Cache
from dolce.core.job import Job, TakeRecord
from dolce.core.reading import EarlySound, Reflection, TimeCurve, early_reflections, early_sound
from dolce.core.room import Reflections, Seat, reflections_of
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.services.read.curve_findings import speaker_place
from dolce.store import UnitOfWork

_KEPT = 512


@dataclass(frozen=True, slots=True, kw_only=True)
class Bounce:
    """A reflection, and where on its surface the sound touches, in the room; None for a surface that is not known."""

    reflection: Reflection
    at_m: tuple[float, float, float] | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatReflections:
    """What arrives at a seat in the first 30 ms, at the spot nearest to its middle drawn as a curve.

    `without` says why nothing can be told; else it is empty.
    """

    seat: Seat
    spot: int
    curve: TimeCurve | None
    bounces: tuple[Bounce, ...]
    listener_m: tuple[float, float, float]
    speaker_m: tuple[float, float, float]
    without: str = ""


class EarlyKeeping:
    """The first milliseconds of takes, which never change, found once."""

    def __init__(self) -> None:
        self._kept: Cache[tuple, EarlySound] = Cache(_KEPT)

    def at_seats(self, work: UnitOfWork, job: Job, channel: str, curves: ChannelCurves) -> list[SeatReflections]:
        """Every seat that has spots among the takes of a channel; single speakers alone."""
        heard = self._heard(work, curves.takes)
        rows = []
        for seat in job.plan.seats:
            spots = {spot.id for spot in job.plan.spots_of(seat.id)}
            takes = [take for take in curves.takes if take.spot_id in spots]
            if takes:
                rows.append(_at_seat(job, seat, channel, takes, heard))
        return rows

    def _heard(self, work: UnitOfWork, takes: tuple[TakeRecord, ...]) -> dict[int, EarlySound]:
        known = {take.id: take for take in takes if take.has_response and take.arrival_known}
        found = {take_id: kept for take_id in known if (kept := self._kept.get((take_id,))) is not None}
        for take_id, response in work.takes.responses([take_id for take_id in known if take_id not in found]):
            read = partial(early_sound, response, arrival_s=known[take_id].arrival_s)
            found[take_id] = self._kept.get_or((take_id,), read)
        return found


def _at_seat(
    job: Job, seat: Seat, channel: str, takes: list[TakeRecord], heard: dict[int, EarlySound]
) -> SeatReflections:
    middle = seat.place.as_array()
    places = {take.id: (take.spot_place or job.spot(take.spot_id).place) for take in takes}
    speaker = speaker_place(job, channel, takes[0])
    takes = sorted(takes, key=lambda take: float(np.linalg.norm(places[take.id].as_array() - middle)))
    there = [take for take in takes if take.id in heard]
    stands = (speaker.x_m, speaker.y_m, speaker.z_m)
    if not there:
        at = places[takes[0].id]
        return SeatReflections(
            seat=seat,
            spot=takes[0].spot_id,
            curve=None,
            bounces=(),
            listener_m=(at.x_m, at.y_m, at.z_m),
            speaker_m=stands,
            without="no take here tells its arrival",
        )
    listeners = [places[take.id] for take in there]
    plan = job.plan.replaced(replace(job.plan.speaker(channel), place=speaker))
    expected = reflections_of(plan, listeners=listeners)
    number = plan.channels.index(channel)
    later = (expected.reflected_m[:, number] - expected.direct_m[number]) / plan.speed_m_s
    names = expected.boundaries
    found = early_reflections(
        [heard[take.id] for take in there],
        {name: later[k] for k, name in enumerate(names)},
        places_m=np.array([place.as_array() for place in listeners]),
        from_m={name: np.repeat(expected.image_m[k, number][None], len(there), axis=0) for k, name in enumerate(names)},
        direct_s=expected.direct_m[number] / plan.speed_m_s,
        speed_m_s=plan.speed_m_s,
    )
    first = listeners[0]
    return SeatReflections(
        seat=seat,
        spot=there[0].spot_id,
        curve=heard[there[0].id].curve,
        bounces=tuple(Bounce(reflection=r, at_m=_touches(r, expected, number)) for r in found),
        listener_m=(first.x_m, first.y_m, first.z_m),
        speaker_m=stands,
    )


def _touches(reflection: Reflection, expected: Reflections, number: int) -> tuple[float, float, float] | None:
    """Where the sound toward the first spot touches the surface."""
    if not reflection.surface:
        return None
    x, y, z = expected.bounce_m[expected.boundaries.index(reflection.surface), number, 0]
    return float(x), float(y), float(z)
