"""The Read stop: what was taken, as loud, as late, as long and as clean as it is."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.cache import Cache
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.reading import CurveFinding
from dolce.core.response import ANALYSIS_GRID_HZ, another_spot_db, average_over_spots, mean_spread_db, smoothed_level_db
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.errors import FormatError, InvalidValue, NotFound
from dolce.services.context import Context
from dolce.services.read.chosen import Beside, Chosen, read_beside, read_chosen
from dolce.services.read.curve_findings import curve_findings, handed_over_at_hz
from dolce.services.read.early import EarlyKeeping, SeatReflections
from dolce.services.read.options import ReadOptions, View
from dolce.services.read.response_export import impulse_wav, responses_sofa
from dolce.services.read.round_curves import base_round
from dolce.services.read.seat_to_seat import SeatTable, seat_table
from dolce.services.read.take_details import Detail, average_of, detail_of
from dolce.store import UnitOfWork

MOST_TAKES = 12  # of single takes in one plot: more can't be told apart, and each costs time
MOST_MAPS = 4  # beside each other
_AHEAD = 4  # rows whose averages are found before they are asked for
_KEPT = 1200  # results for single takes, which never change
_SLOW: tuple[View, ...] = ("times", "distortion", "noise")  # tens of ms a take, and averages are over all spots

Found = TypeVar("Found")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TakeDetail:
    """What a view shows of one take, or of several together; `fault` says why it can't.

    `take` is the first of them, `count` how many there are; `number` its place in the picture, None for another
    channel of the first round, and `chosen` what it was taken from.
    """

    take: TakeRecord
    found: Detail | None
    fault: str = ""
    count: int = 1
    number: int | None = 0
    chosen: Chosen | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ReadView:
    """What there is to choose from, and what was chosen.

    Attributes
    ----------
    channels : the chosen ones, the one in front first
    beside : what else is in the picture, in the order of the options
    details : single takes, for views of these; at most `MOST_TAKES`
    left_out : channels beyond these
    seats : bass by seat, one table for each round
    findings : what the curve of the channel in front says, of levels of whole responses
    early : reflections of the channel in front at each seat
    others : ids and names of the other jobs
    """

    job: Job
    rounds: tuple[Round, ...]
    options: ReadOptions
    channels: tuple[str, ...]
    chosen: Chosen
    beside: tuple[Beside, ...] = ()
    details: tuple[TakeDetail, ...] = ()
    left_out: tuple[str, ...] = ()
    seats: tuple[SeatTable, ...] = ()
    findings: tuple[CurveFinding, ...] = ()
    early: tuple[SeatReflections, ...] = ()
    others: tuple[tuple[int, str], ...] = ()

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
    def picture(self) -> tuple[tuple[int, Chosen, str], ...]:
        """What lies in one picture: number, takes and channel; 0 is what was chosen first, 1 the first beside it.

        Only what is drawn and has takes.
        """
        first = [(0, self.chosen, self.front)]
        beside = [
            (number, one.chosen, one.asked.channel or self.front)
            for number, one in enumerate(self.beside, 1)
            if one.chosen is not None and one.asked.shown
        ]
        return tuple(part for part in (*first, *beside) if part[2] in part[1].curves)

    @property
    def differences_db(self) -> dict[int, NDArray[np.float64]]:
        """Each curve of the picture less the one that differences are taken to, by number; empty for no such."""
        levels = {number: chosen.level_db(channel) for number, chosen, channel in self.picture}
        to = self.options.difference_to
        if to not in levels:
            return {}
        return {number: level - levels[to] for number, level in levels.items() if number != to}


class Reading:
    """Curves of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._kept: Cache[tuple, Any] = Cache(_KEPT)
        self._early = EarlyKeeping()

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
            chosen = read_chosen(
                work,
                job,
                rounds,
                options,
                self._context.curves,
                channels=channels,
                round_id=options.round_id or job.round_id,
                place=options.place,
            )
            view = ReadView(
                job=job,
                rounds=rounds,
                options=options,
                channels=channels,
                chosen=chosen,
                beside=tuple(
                    read_beside(work, chosen, rounds, options, self._context.curves, channels=channels, asked=asked)
                    for asked in options.compared
                ),
                others=tuple(name for name in work.jobs.names() if name[0] != job_id),
            )
            if options.of_one_take:
                view = self._with_details(work, view)
                self._read_ahead(view)
            if options.view == "level" and options.window == "whole":
                view = replace(view, findings=self._findings(work, view))
            if options.view == "early" and view.front in chosen.curves and view.front in job.channels:
                reflections = self._early.at_seats(work, job, view.front, chosen.curves[view.front])
                view = replace(view, early=tuple(reflections))
            if options.view == "seats":
                shown = {each.round.id: each.round for _, each, _ in view.picture if each.job is job} or {
                    chosen.round.id: chosen.round
                }
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

    def rounds_of(self, job_id: int) -> tuple[Round, ...]:
        """Rounds of a job, to be chosen from."""
        with self._context.look() as work:
            return tuple(work.takes.rounds(job_id))

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
        """As of `impulse_wav`."""
        with self._context.look() as work:
            return impulse_wav(work, job_id, take_id)

    def sofa(self, job_id: int, round_id: int, channel: str) -> tuple[bytes, str]:
        """As of `responses_sofa`."""
        with self._context.look() as work:
            return responses_sofa(work, job_id, round_id, channel)

    def _findings(self, work: UnitOfWork, view: ReadView) -> tuple[CurveFinding, ...]:
        """Of the channel in front, at the chosen place."""
        front, chosen = view.front, view.chosen
        at = chosen.take_of(front)
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
            view.job.plan.outline,
            view.job.plan.boxes,
            repr(view.job.plan.reverberation),
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
        """Single takes, or means over the place: of the picture, then of the other channels."""
        of_channels = ((None, view.chosen, c) for c in view.channels if c != view.front and c in view.chosen.curves)
        there = [*view.picture, *of_channels]
        shown = view.picture[:MOST_MAPS] if view.options.view in ("map", "slices") else there[:MOST_TAKES]
        return replace(
            view,
            details=tuple(self._shown(work, view.options, *part) for part in shown),
            left_out=tuple(channel for _, _, channel in there[len(shown) :]),
        )

    def _shown(
        self, work: UnitOfWork, options: ReadOptions, number: int | None, chosen: Chosen, channel: str
    ) -> TakeDetail:
        if options.averaged:
            found = self._average(work, chosen.curves[channel].takes, options)
        else:
            take = chosen.take_of(channel)
            assert take is not None, channel
            found = self._detail(work, take, options)
        return replace(found, number=number, chosen=chosen)

    def _read_ahead(self, view: ReadView) -> None:
        """What averages of the slow views need of the rows that are looked at, the one in front first."""
        rows = [view.chosen.curves[channel].takes for channel in view.channels if channel in view.chosen.curves]
        takes = [take for of_row in rows[:_AHEAD] for take in of_row]

        def step(take: TakeRecord, options: ReadOptions) -> None:
            with self._context.look() as work:
                self._detail(work, take, options)

        self._context.background.begin(
            "read",
            tuple(take.id for take in takes),
            lambda: [partial(step, take, replace(view.options, view=slow)) for slow in _SLOW for take in takes],
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
