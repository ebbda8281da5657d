"""Takes of one round at one place, and the curves beside them in a picture."""

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.levels import LEVEL_BAND_HZ
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import SHAPING_PER_OCTAVE
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.errors import InvalidValue, NotFound
from dolce.services.read.options import Compared, Place, ReadOptions
from dolce.services.read.round_curves import ShapingCurves, curves_by_channel
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Chosen:
    """Takes of one round at one place, with their levels, by channel.

    Attributes
    ----------
    offsets_db : what is added to each channel's curves so that they lie over each other
    spots : the spots of that place
    """

    job: Job
    round: Round
    place: Place
    curves: dict[str, ChannelCurves]
    offsets_db: dict[str, float]
    spots: Collection[int]

    def level_db(self, channel: str) -> NDArray[np.float64]:
        """The average of a channel as it is drawn, dB."""
        return self.curves[channel].average.level_db + self.offsets_db[channel]

    def take_of(self, channel: str) -> TakeRecord | None:
        """The take of a channel that stands for the place: at the main centre, else the first with a response."""
        curves = self.curves.get(channel)
        if curves is None:
            return None
        centre = self.job.plan.centre_spot
        return min(curves.takes, key=lambda take: (not take.has_response, centre is None or take.spot_id != centre.id))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Beside:
    """A curve beside the chosen ones, as it was asked for.

    Attributes
    ----------
    chosen : what it holds; without curves where it is not drawn, None where it is gone
    fault : why it is gone, or what it lacks; empty for nothing
    """

    asked: Compared
    chosen: Chosen | None
    fault: str = ""


def read_chosen(
    work: UnitOfWork,
    job: Job,
    rounds: Sequence[Round],
    options: ReadOptions,
    kept: ShapingCurves,
    *,
    channels: Collection[str],
    round_id: int,
    place: Place,
) -> Chosen:
    """Curves of channels in one of a job's rounds, at a place.

    Raises
    ------
    InvalidValue, NotFound
        If the round or the place is not of this job.
    """
    found = next((r for r in rounds if r.id == round_id), None)
    if found is None:
        raise InvalidValue("that round is not of this job.", where="round", remedy="Choose one of the list.")
    spots = _spots(job, place)
    if not channels:
        curves = {}
    elif np.isscalar(options.per_octave) and options.per_octave == SHAPING_PER_OCTAVE:
        # As corrections are computed on: those curves are kept.
        at_spots = {
            channel: curves.at(spots) for channel, curves in kept.of(work, found.id).items() if channel in channels
        }
        curves = {channel: curves for channel, curves in at_spots.items() if curves is not None}
    else:
        curves = curves_by_channel(
            (take for take in work.takes.latest(found.id) if take.spot_id in spots and take.channel in channels),
            work,
            per_octave=options.per_octave,
        )
    return Chosen(
        job=job,
        round=found,
        place=place,
        curves=curves,
        offsets_db={channel: _offset_db(options, c.average.level_db) for channel, c in curves.items()},
        spots=spots,
    )


def read_beside(
    work: UnitOfWork,
    first: Chosen,
    rounds: Sequence[Round],
    options: ReadOptions,
    kept: ShapingCurves,
    *,
    channels: Collection[str],
    asked: Compared,
) -> Beside:
    """What was asked for beside the first; `channels` are those that it shows where none is named.

    In another job, a place is the seat of the same name, or the spot of the same number.
    """
    try:
        job, place = first.job, asked.place or first.place
        if asked.job_id not in (None, job.id):
            job = work.jobs.get(asked.job_id)
            place, rounds = _place_there(first.job, job, place), work.takes.rounds(job.id)
        usual = first.round.id if job is first.job else job.round_id
        wanted = (asked.channel,) if asked.channel else channels
        chosen = read_chosen(
            work,
            job,
            rounds,
            options,
            kept,
            channels=wanted if asked.shown else (),
            round_id=asked.round_id or usual,
            place=place,
        )
    except (InvalidValue, NotFound) as error:
        return Beside(asked=asked, chosen=None, fault=str(error))
    return Beside(asked=asked, chosen=chosen, fault=_lacks(first, chosen, asked) if asked.shown else "")


def _lacks(first: Chosen, chosen: Chosen, asked: Compared) -> str:
    """What a curve lacks that the first one has, in words; empty for nothing."""
    if asked.channel and asked.channel not in chosen.curves:
        return f"no usable take of {asked.channel} there"
    if not chosen.curves:
        return "no usable take at this place in that round"
    channel = asked.channel or next(iter(chosen.curves))
    if channel not in first.curves or chosen.place != first.place:
        return ""
    here, there = ({_number(one.job, t.spot_id) for t in one.curves[channel].takes} for one in (first, chosen))
    missing, more = sorted(here - there), sorted(there - here)
    words = []
    if missing:
        words.append(f"without {_spot_words(missing)}")
    if more:
        words.append(f"with {_spot_words(more)} too")
    return f"other spots: {', '.join(words)}" if words else ""


def _number(job: Job, spot_id: int) -> int:
    """A spot's number; 0 for one that is gone."""
    return next((spot.number for spot in job.spots if spot.id == spot_id), 0)


def _spot_words(numbers: list[int]) -> str:
    named = [str(number) if number else "one that is gone" for number in numbers[:6]]
    return f"spot{'s' if len(numbers) > 1 else ''} {', '.join(named)}{' and more' if len(numbers) > 6 else ''}"


def _spots(job: Job, place: Place) -> Collection[int]:
    """Spots of a place that count: a free spot is read where it is asked for by itself."""
    if place.spot is not None:
        return {job.spot(place.spot).id}
    if place.seat is not None:
        spots = {spot.id for spot in job.plan.spots_of(place.seat)}
        if not spots:
            raise InvalidValue("that seat has no spots.", where="place", remedy="Choose another place.")
        return spots
    of_seats = {spot.id for spot in job.spots if spot.seat_id is not None}
    return of_seats or {spot.id for spot in job.spots}


def _place_there(job: Job, other: Job, place: Place) -> Place:
    """The same place in another job."""
    if place.seat is not None:
        seat = next((seat for seat in other.plan.seats if seat.name == job.plan.seat(place.seat).name), None)
        if seat is None:
            raise InvalidValue(
                f"{other.name} has no seat {job.plan.seat(place.seat).name}.", where="place", remedy="Choose all seats."
            )
        return Place(seat=seat.id)
    if place.spot is not None:
        number = job.spot(place.spot).number
        spot = next((spot for spot in other.spots if spot.number == number), None)
        if spot is None:
            raise InvalidValue(f"{other.name} has no spot {number}.", where="place", remedy="Choose all seats.")
        return Place(spot=spot.id)
    return place


def _offset_db(options: ReadOptions, level_db: NDArray) -> float:
    """What brings a curve to 0 dB where it is to meet the others; nothing where it stays as measured."""
    match options.levelled:
        case "at":
            return -float(np.interp(np.log(options.level_hz), np.log(ANALYSIS_GRID_HZ), level_db))
        case "band":
            inside = in_band(ANALYSIS_GRID_HZ, LEVEL_BAND_HZ)
            return -float(energy_mean_db(level_db[inside]))
        case "as measured":
            return 0.0
