"""The Read stop: what was taken, as loud, as late, as long and as clean as it is."""

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.cache import Cache
from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.levels import LEVEL_BAND_HZ
from dolce.core.reading import CurveFinding
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    another_spot_db,
    average_over_spots,
    from_emission,
    mean_spread_db,
    smoothed_level_db,
)
from dolce.core.tuning import SHAPING_PER_OCTAVE
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.errors import FormatError, InvalidValue, NotFound
from dolce.formats.audio_file import write_wav
from dolce.formats.sofa_file import RoomResponses, write_sofa
from dolce.services.context import Context
from dolce.services.read.curve_findings import curve_findings, handed_over_at_hz
from dolce.services.read.options import Place, ReadOptions, View
from dolce.services.read.round_curves import ShapingCurves, base_round, curves_by_channel
from dolce.services.read.seat_to_seat import SeatTable, seat_table
from dolce.services.read.take_details import Detail, average_of, detail_of
from dolce.store import UnitOfWork

MOST_TAKES = 4  # of single takes in one plot: more can't be told apart, and each costs time
_KEPT = 1200  # results for single takes, which never change
_SLOW: tuple[View, ...] = ("times", "distortion", "noise")  # tens of ms a take, and averages are over all spots

Found = TypeVar("Found")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Chosen:
    """Takes of one round at one place, with their levels, by channel.

    Attributes
    ----------
    offsets_db : what is added to each channel's curves so that they lie over each other
    """

    round: Round
    place: Place
    curves: dict[str, ChannelCurves]
    offsets_db: dict[str, float]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TakeDetail:
    """What a view shows of one take, or of several together; `fault` says why it can't.

    `take` is the first of them, `count` how many there are.
    """

    take: TakeRecord
    found: Detail | None
    fault: str = ""
    count: int = 1


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ReadView:
    """What there is to choose from, and what was chosen.

    Attributes
    ----------
    channels : the chosen ones, the one in front first
    against : what it is held against; None for nothing
    details : single takes, for views of these; at most `MOST_TAKES`
    left_out : channels beyond these
    seats : bass by seat, one table for each choice
    findings : what the curve of the channel in front says, of levels of whole responses
    others : ids and names of the other jobs
    against_rounds : of the job that is held against
    """

    job: Job
    rounds: tuple[Round, ...]
    options: ReadOptions
    channels: tuple[str, ...]
    chosen: Chosen
    against: Chosen | None
    details: tuple[TakeDetail, ...] = ()
    left_out: tuple[str, ...] = ()
    seats: tuple[SeatTable, ...] = ()
    findings: tuple[CurveFinding, ...] = ()
    others: tuple[tuple[int, str], ...] = ()
    against_rounds: tuple[Round, ...] = ()

    @property
    def round(self) -> Round:
        return self.chosen.round

    @staticmethod
    def bass_spread_db(curves: ChannelCurves) -> float:
        """Mean standard deviation over the spots, 20-120 Hz, of levels over 1/48 octave, however they are shown."""
        return mean_spread_db(ANALYSIS_GRID_HZ, average_over_spots([take.level_db for take in curves.takes]))

    @staticmethod
    def another_spot_db(curves: ChannelCurves) -> float:
        """How much one spot more would change the average below 300 Hz, over 1/12 octave."""
        return another_spot_db(
            smoothed_level_db(np.array([take.level_db for take in curves.takes]), per_octave=12), ANALYSIS_GRID_HZ
        )

    @property
    def curves(self) -> tuple[ChannelCurves, ...]:
        """Of the chosen channels that have takes."""
        return tuple(self.chosen.curves[c] for c in self.channels if c in self.chosen.curves)

    @property
    def front(self) -> str:
        """The channel in front."""
        return next((c for c in self.channels if c in self.chosen.curves), self.channels[0])

    @property
    def difference_db(self) -> NDArray[np.float64] | None:
        """Of the one in front, chosen less against; None where either is missing."""
        if self.against is None:
            return None
        other = self.options.against_channel or self.front
        if self.front not in self.chosen.curves or other not in self.against.curves:
            return None
        return (
            self.chosen.curves[self.front].average.level_db
            + self.chosen.offsets_db[self.front]
            - self.against.curves[other].average.level_db
            - self.against.offsets_db[other]
        )


class Reading:
    """Curves of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._kept: Cache[tuple, Any] = Cache(_KEPT)

    def view(self, job_id: int, options: ReadOptions) -> ReadView:
        """All that the options show.

        Raises
        ------
        InvalidValue
            If a round, a place or a channel is not of this job.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            rounds = tuple(work.takes.rounds(job_id))
            channels = _channels(job, options)
            read = partial(_read, work, job, rounds, options, self._context.curves)
            chosen = read(channels, options.round_id or job.round_id, options.place)
            against = None
            if options.compares:
                against_channels = (options.against_channel,) if options.against_channel else channels
                place = options.against_place or options.place
                if options.against_job is None or options.against_job == job_id:
                    against = read(against_channels, options.against_round or chosen.round.id, place)
                else:
                    against = self._of_another(work, job, options, options.against_job, against_channels, place)
            others = tuple(name for name in work.jobs.names() if name[0] != job_id)
            view = ReadView(
                job=job,
                rounds=rounds,
                options=options,
                channels=channels,
                chosen=chosen,
                against=against,
                others=others,
                against_rounds=rounds
                if options.against_job is None or options.against_job == job_id
                else tuple(work.takes.rounds(options.against_job)),
            )
            if options.of_one_take:
                view = self._with_details(work, view)
                self._read_ahead(view)
            if options.view == "level" and options.window == "whole":
                view = replace(view, findings=self._findings(work, view))
            if options.view == "seats":
                shown = {each.round.id: each.round for each in (chosen, against) if each is not None}
                view = replace(
                    view,
                    seats=tuple(
                        self._once(
                            ("seats", each.id, work.takes.newest(each.id), channels, _seating(job)),
                            partial(seat_table, work, job, each, channels),
                        )
                        for each in shown.values()
                    ),
                )
            return view

    def _of_another(
        self, work: UnitOfWork, job: Job, options: ReadOptions, other_id: int, channels: Collection[str], place: Place
    ) -> Chosen:
        """A round of another job, at the seat of the same name, or the spot of the same number."""
        other = work.jobs.get(other_id)
        rounds = tuple(work.takes.rounds(other.id))
        wanted = options.against_round if options.against_round in {round_.id for round_ in rounds} else other.round_id
        found = _read(
            work, other, rounds, options, self._context.curves, channels, wanted, _place_there(job, other, place)
        )
        return replace(found, round=replace(found.round, name=f"{other.name}: {found.round.name}"))

    def findings(self, job_id: int, round_id: int, channel: str) -> tuple[CurveFinding, ...]:
        """What the curve of a channel in a round says, over the spots of all seats."""
        return self.view(job_id, ReadOptions(round_id=round_id, channels=(channel,), front=channel)).findings

    def selections(self, job_id: int) -> list[tuple[int, str, str]]:
        """What was kept to be looked at again: number, name, and address as it was given."""
        with self._context.look() as work:
            return work.selections.all(job_id)

    def keep_selection(self, job_id: int, *, name: str, address: str) -> None:
        """Keep what is looked at under a name; one of that name gives way.

        Raises
        ------
        InvalidValue
            If the name is empty or long.
        """
        name = checked.text(name.strip(), longest=40, where="name")
        if not name:
            raise InvalidValue("no name was given.", where="name", remedy="Call it something, such as fronts.")
        with self._context.change() as work:
            work.jobs.get(job_id)
            work.selections.keep(job_id, name=name, address=checked.text(address, longest=2000, where="address"))

    def forget_selection(self, job_id: int, number: int) -> None:
        with self._context.change() as work:
            work.selections.remove(job_id, number)

    def of_take(self, job_id: int, take_id: int, options: ReadOptions) -> TakeDetail:
        """What a view shows of one take of a job."""
        with self._context.look() as work:
            if work.takes.job_of(take_id) != job_id:
                raise InvalidValue("that take is not of this job.", where="takes", remedy="Reload the page.")
            return self._detail(work, work.takes.get(take_id), options)

    def impulse(self, job_id: int, take_id: int) -> tuple[bytes, str]:
        """The impulse response of a take as mono WAV in 32-bit float, and its file name."""
        with self._context.look() as work:
            if work.takes.job_of(take_id) != job_id:
                raise InvalidValue("that take is not of this job.", where="takes", remedy="Reload the page.")
            take, response, job = work.takes.get(take_id), work.takes.response(take_id), work.jobs.get(job_id)
        spot = next((s.number for s in job.spots if s.id == take.spot_id), 0)
        return (
            write_wav(response.sample, sample_rate_hz=response.sample_rate_hz),
            f"impulse {take.channel} spot {spot} attempt {take.attempt}.wav",
        )

    def sofa(self, job_id: int, round_id: int, channel: str) -> tuple[bytes, str]:
        """All responses of a channel in a round as AES69 (SOFA), with where they were taken, and the file's name.

        Every response begins when the sound is emitted. Takes that can't be put on that axis, or don't count, are left
        out; the file's comment names them.

        Raises
        ------
        NotFound
            Where the channel has no response with a known arrival; it says why.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            chosen = next((r for r in work.takes.rounds(job_id) if r.id == round_id), None)
            taken = [t for t in work.takes.latest(round_id) if t.channel == channel] if chosen else []
            rate = next((t.sample_rate_hz for t in taken if not _kept_out(t, t.sample_rate_hz)), None)
            takes = [take for take in taken if not _kept_out(take, rate)]
            out = "; ".join(
                f"{job.at_spot(take.spot_id)} ({_kept_out(take, rate)})" for take in taken if _kept_out(take, rate)
            )
            if not takes or chosen is None or rate is None:
                raise NotFound(
                    f"{channel} has no impulse response with a known arrival in that round"
                    + (f": {out}." if out else "."),
                    where="takes",
                    remedy="Choose another channel or round, or take it through the rig.",
                )
            responses = [work.takes.response(take.id) for take in takes]
        places = {spot.id: spot.place for spot in job.spots}
        found = RoomResponses(
            samples=from_emission(responses),
            sample_rate_hz=rate,
            source_m=job.speaker(channel).place.as_array(),
            microphones_m=np.array([(take.spot_place or places[take.spot_id]).as_array() for take in takes]),
            delay_samples=np.zeros(len(takes)),
            room_m=(job.room.width_m, job.room.length_m, job.room.height_m),
            title=f"{job.name}, {chosen.name}, {channel}",
            comment="Time 0 is when the sound is emitted." + (f" Left out: {out}." if out else ""),
        )
        date = f"{max(take.taken_at for take in takes):%Y-%m-%d %H:%M:%S}"
        return write_sofa(found, date=date), f"responses {channel} {chosen.name}.sofa"

    def _findings(self, work: UnitOfWork, view: ReadView) -> tuple[CurveFinding, ...]:
        """Of the channel in front, at the chosen place."""
        front, chosen = view.front, view.chosen
        at = _one(view.job, chosen, front)
        if at is None:
            return ()
        ids = tuple(take.id for take in chosen.curves[front].takes)
        crossover_hz = handed_over_at_hz(chosen.round.held, at)
        base = base_round(work, view.job, kept=None) if crossover_hz else None
        key = (
            "findings",
            ids,
            crossover_hz,
            base and (base.id, work.takes.newest(base.id)),
            work.takes.newest(chosen.round.id),
            tuple(chosen.curves),
            view.job.plan.speakers,
            view.job.room,
        )
        return self._once(
            key,
            lambda: tuple(
                curve_findings(
                    work,
                    view.job,
                    chosen.curves[front],
                    self._context.curves.of(work, chosen.round.id),
                    at,
                    crossover_hz=crossover_hz,
                    untouched=self._context.curves.of(work, base.id).get(front) if base else None,
                )
            ),
        )

    def _with_details(self, work: UnitOfWork, view: ReadView) -> ReadView:
        """Single takes: of the chosen place, and of what it is held against."""
        takes = [_one(view.job, view.chosen, channel) for channel in view.channels]
        if view.against is not None:
            channel = view.options.against_channel or view.front
            takes = [takes[0], _one(view.job, view.against, channel), *takes[1:]]
        if view.options.averaged:
            return self._with_averages(work, view)
        there = [take for take in takes if take is not None]
        shown = there[: 1 if view.options.view in ("map", "slices") else MOST_TAKES]
        return replace(
            view,
            details=tuple(self._detail(work, take, view.options) for take in shown),
            left_out=tuple(take.channel for take in there[len(shown) :]),
        )

    def _read_ahead(self, view: ReadView) -> None:
        """What averages of the slow views need of the rows that are looked at, the one in front first."""
        rows = [view.chosen.curves[channel].takes for channel in view.channels if channel in view.chosen.curves]
        takes = [take for of_row in rows[:MOST_TAKES] for take in of_row]

        def step(take: TakeRecord, options: ReadOptions) -> None:
            with self._context.look() as work:
                self._detail(work, take, options)

        self._context.background.begin(
            "read",
            tuple(take.id for take in takes),
            lambda: [partial(step, take, replace(view.options, view=slow)) for slow in _SLOW for take in takes],
        )

    def _with_averages(self, work: UnitOfWork, view: ReadView) -> ReadView:
        """The means over all takes of the chosen place, row by row, and of what they are held against."""
        sets = [view.chosen.curves.get(channel) for channel in view.channels]
        if view.against is not None:
            sets.insert(1, view.against.curves.get(view.options.against_channel or view.front))
        there = [curves.takes for curves in sets if curves is not None]
        shown = there[: 1 if view.options.view in ("map", "slices") else MOST_TAKES]
        return replace(
            view,
            details=tuple(self._average(work, takes, view.options) for takes in shown),
            left_out=tuple(takes[0].channel for takes in there[len(shown) :]),
        )

    def _average(self, work: UnitOfWork, takes: Sequence[TakeRecord], options: ReadOptions) -> TakeDetail:
        each = [self._detail(work, take, options) for take in takes]
        known = [detail for detail in each if detail.found is not None]
        if not known:
            return each[0]
        return TakeDetail(
            take=known[0].take,
            found=average_of([detail.found for detail in known if detail.found is not None], options),
            count=len(known),
            fault=""
            if len(known) == len(each)
            else f"{len(each) - len(known)} of {len(each)} takes can't tell it and are left out.",
        )

    def _detail(self, work: UnitOfWork, take: TakeRecord, options: ReadOptions) -> TakeDetail:
        key = (take.id, take.taken_at, *options.of_take)
        try:
            return TakeDetail(take=take, found=self._once(key, lambda: detail_of(work, take, options)))
        except (NotFound, InvalidValue, FormatError) as error:  # such as the phase of a moving average
            return TakeDetail(take=take, found=None, fault=str(error))

    def _once(self, key: tuple, compute: Callable[[], Found]) -> Found:
        """What was found of kept takes, which never change, is found once."""
        return self._kept.get_or(key, compute)


def _seating(job: Job) -> tuple:
    """Which spots belong to which seats, and what these are called."""
    return (
        tuple((spot.id, spot.seat_id) for spot in job.spots),
        tuple((seat.id, seat.name, seat.weight > 0) for seat in job.plan.seats),
    )


def _channels(job: Job, options: ReadOptions) -> tuple[str, ...]:
    """The chosen channels, the one in front first."""
    channels = [feed.code for feed in job.feeds if feed.code in options.channels] or list(job.channels)
    if options.front in channels:
        channels.remove(options.front)
        channels.insert(0, options.front)
    return tuple(channels)


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


def _read(
    work: UnitOfWork,
    job: Job,
    rounds: tuple[Round, ...],
    options: ReadOptions,
    kept: ShapingCurves,
    channels: Collection[str],
    round_id: int,
    place: Place,
) -> Chosen:
    found = next((r for r in rounds if r.id == round_id), None)
    if found is None:
        raise InvalidValue("that round is not of this job.", where="round", remedy="Choose one of the list.")
    spots = _spots(job, place)
    if np.isscalar(options.per_octave) and options.per_octave == SHAPING_PER_OCTAVE:
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
        round=found,
        place=place,
        curves=curves,
        offsets_db={channel: _offset_db(options, c.average.level_db) for channel, c in curves.items()},
    )


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


def _one(job: Job, chosen: Chosen, channel: str) -> TakeRecord | None:
    """The take of a channel that stands for a place: at the main seat's centre, else the first that has a response."""
    curves = chosen.curves.get(channel)
    if curves is None:
        return None
    centre = job.plan.centre_spot
    return min(curves.takes, key=lambda take: (not take.has_response, centre is None or take.spot_id != centre.id))


def _kept_out(take: TakeRecord, rate_hz: int | None) -> str:
    """Why a take is not among responses on one time axis; empty where it is."""
    if not take.has_response:
        return "no impulse response"
    if take.left_out:
        return f"left out: {take.left_out}"
    if not take.usable:
        return take.word
    if not take.arrival_known:
        return "its arrival is not known"
    return "" if take.sample_rate_hz == rate_hz else f"at {take.sample_rate_hz} Hz"
