"""How long the bass of a channel rings at every seat: before, as predicted, and after."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from dolce.core.cache import Cache
from dolce.core.filters import before_main_db
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.reading import ModeDecay, longest_decay_s, mode_decays
from dolce.core.response import ImpulseResponse
from dolce.core.room import Seat
from dolce.core.tuning import Outputs
from dolce.core.tuning.time_prediction import FAR_PRE_S, PRE_S, PredictedResponse, predicted_response
from dolce.errors import InvalidValue
from dolce.services.context import Context
from dolce.services.prove.proving import ProofView, Proving
from dolce.services.read.reading import Reading
from dolce.services.read.round_curves import base_round
from dolce.services.shape.present_correction import present_correction
from dolce.store import UnitOfWork

_BASS_HZ = 250.0
_MOST_MODES, _FEWEST = 6, 3
_USUAL_HZ = (40.0, 63.0, 100.0, 160.0)
_LOOKED_HZ = (31.5, 40.0, 50.0, 63.0, 80.0, 100.0, 125.0, 160.0, 200.0, 250.0)
_APART_OCTAVES = 1 / 3
_KEPT = 128


@dataclass(frozen=True, slots=True, kw_only=True)
class DecayRow:
    """One frequency at one seat; levels relative to the target's level. None where it can't be told."""

    before: ModeDecay
    predicted: ModeDecay | None
    after: ModeDecay | None

    @property
    def limit_s(self) -> float:
        return longest_decay_s(self.before.frequency_hz)


@dataclass(frozen=True, slots=True, kw_only=True)
class SeatDecays:
    """All frequencies at a seat's middle spot; `fault` says what can't be told, and why."""

    seat: Seat
    spot: str
    rows: tuple[DecayRow, ...]
    fault: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Lengthened:
    """A band that a correction makes ring longer, at the main seat's centre."""

    channel: str
    before: ModeDecay
    predicted: ModeDecay


@dataclass(frozen=True, slots=True, kw_only=True)
class BeforeArrival:
    """What of a channel sounds before its main arrival at a seat, in dB against all of it, before and as predicted.

    `far_db` is what comes more than 20 ms before, which is not masked by what follows.
    """

    seat: Seat
    before_db: float
    predicted_db: float
    far_db: float


@dataclass(frozen=True, slots=True, kw_only=True)
class TimeForecast:
    """What the present correction does to a channel over time; `fault` where it can't be told."""

    channel: str
    lengthened: tuple[Lengthened, ...]
    ahead: tuple[BeforeArrival, ...]
    filter_ahead_db: float | None
    fault: str = ""


class Decays:
    """Decays of one job."""

    def __init__(self, context: Context, proving: Proving, reading: Reading) -> None:
        self._context = context
        self._proving, self._reading = proving, reading
        self._forecasts: Cache[tuple, TimeForecast] = Cache(_KEPT)
        self._at_seats: Cache[tuple, list[SeatDecays | None]] = Cache(_KEPT)

    def at_seats(self, job_id: int, channel: str, *, main_alone: bool = False) -> tuple[ProofView, list[SeatDecays]]:
        """A proven channel's modes at every seat, or at the main seat alone; none where it is not proven."""
        view = self._proving.view(job_id)
        if channel not in view.channels or view.before_round is None or view.after_round is None:
            return view, []
        proof = view.channels[channel]
        found = self._reading.findings(job_id, view.before_round.id, proof.channel)
        modes = sorted(f.frequency_hz for f in found if f.size_db > 0 and f.frequency_hz < _BASS_HZ)[:_MOST_MODES]
        if len(modes) < _FEWEST:
            modes += [hz for hz in _USUAL_HZ if all(abs(np.log2(hz / mode)) > _APART_OCTAVES for mode in modes)]
        at_hz = sorted(modes)
        outputs = Outputs.held(view.after_round.held, view.job.channels)
        shifts = (proof.trim_db - proof.level_db, view.cut_db - proof.level_db)
        seats = tuple(seat for seat in view.job.plan.seats if seat.is_main or not main_alone)
        with self._context.look() as work:
            newest = (work.takes.newest(view.before_round.id), work.takes.newest(view.after_round.id))
            key = (proof.channel, view.before_round.id, view.after_round.id, *newest, *at_hz, *shifts, seats)
            rows = self._at_seats.get_or(
                (*key, view.job.plan.spots),
                lambda: [self._at_seat(work, view, seat, proof.channel, outputs, at_hz, shifts) for seat in seats],
            )
        return view, [row for row in rows if row is not None]

    def _at_seat(
        self,
        work: UnitOfWork,
        view: ProofView,
        seat: Seat,
        channel: str,
        outputs: Outputs,
        at_hz: Sequence[float],
        shifts: tuple[float, float],
    ) -> SeatDecays | None:
        job, before_round, after_round = view.job, view.before_round, view.after_round
        if before_round is None or after_round is None:
            return None
        before = _by_channel(work, before_round, seat, job)
        after = _by_channel(work, after_round, seat, job)
        if channel not in before:
            return None
        spot = before[channel].spot_id
        taken = {name: take for name, take in before.items() if take.spot_id == spot}
        responses = dict(work.takes.responses([take.id for take in (*taken.values(), *_same(after, channel, spot))]))
        own = responses[taken[channel].id]
        faults: list[str] = []

        def decays(response: ImpulseResponse, arrival_s: float, shift_db: float) -> list[ModeDecay] | None:
            try:
                found = mode_decays(response, at_hz, arrival_s=arrival_s)
            except InvalidValue as error:
                faults.append(str(error))
                return None
            return [replace(one, level_db=one.level_db + shift_db) for one in found]

        first = decays(own, taken[channel].arrival_s, shifts[0])
        if first is None:
            return SeatDecays(seat=seat, spot=job.at_spot(spot), rows=(), fault="; ".join(faults))
        predicted = _predicted(outputs, channel, taken, responses, faults)
        then = decays(predicted.response, predicted.arrival_s, shifts[1]) if predicted is not None else None
        last = None
        for take in _same(after, channel, spot):
            last = decays(responses[take.id], take.arrival_s, shifts[1])
        if not _same(after, channel, spot):
            faults.append(f"no take after at {job.at_spot(spot)}.")
        return SeatDecays(
            seat=seat,
            spot=job.at_spot(spot),
            rows=tuple(
                DecayRow(before=one, predicted=then[k] if then else None, after=last[k] if last else None)
                for k, one in enumerate(first)
            ),
            fault=" ".join(faults),
        )

    def forecast(self, job_id: int, channel: str) -> TimeForecast | None:
        """What the present correction will do to a channel over time, before it is loaded; None without filters."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            if base is None or channel not in correction.channels or correction.alignment is None:
                return None
            outputs = Outputs.of(
                correction.alignment, correction, job.channels, sample_rate_hz=job.rig.sample_rate_hz, device=job.limits
            )
            key = (channel, base.id, work.takes.newest(base.id), work.corrections.version(job_id), job.limits)
            return self._forecasts.get_or(key, lambda: _forecast(work, job, base, channel, outputs))


def _forecast(work: UnitOfWork, job: Job, base: Round, channel: str, outputs: Outputs) -> TimeForecast:
    faults: list[str] = []
    lengthened: list[Lengthened] = []
    ahead: list[BeforeArrival] = []
    taps = outputs.of_output(channel).convolution
    for seat in job.plan.seats:
        every = _by_channel(work, base, seat, job)
        if channel not in every:
            continue
        if taps is None and seat.id != job.seat.id:
            continue  # bands alone sound after the arrival, and ring alike at every seat
        spot = every[channel].spot_id
        taken = {name: take for name, take in every.items() if take.spot_id == spot}
        responses = dict(work.takes.responses([take.id for take in taken.values()]))
        predicted = _predicted(outputs, channel, taken, responses, faults)
        if predicted is None:
            continue
        own = PredictedResponse(response=responses[taken[channel].id], arrival_s=taken[channel].arrival_s)
        ahead.append(
            BeforeArrival(
                seat=seat,
                before_db=own.ahead_db(PRE_S),
                predicted_db=predicted.ahead_db(PRE_S),
                far_db=predicted.ahead_db(FAR_PRE_S),
            )
        )
        if seat.id != job.seat.id:
            continue
        try:
            before = mode_decays(own.response, _LOOKED_HZ, arrival_s=own.arrival_s)
            then = mode_decays(predicted.response, _LOOKED_HZ, arrival_s=predicted.arrival_s)
        except InvalidValue as error:
            faults.append(str(error))
            continue
        lengthened = [
            Lengthened(channel=channel, before=b, predicted=t)
            for b, t in zip(before, then, strict=True)
            if t.lengthened(b) and t.heard
        ]
    return TimeForecast(
        channel=channel,
        lengthened=tuple(lengthened),
        ahead=tuple(ahead) if taps is not None else (),
        filter_ahead_db=None if taps is None else before_main_db(taps.impulse),
        fault=" ".join(dict.fromkeys(faults)),
    )


def _predicted(
    outputs: Outputs,
    channel: str,
    taken: Mapping[str, TakeRecord],
    responses: Mapping[int, ImpulseResponse],
    faults: list[str],
) -> PredictedResponse | None:
    try:
        return predicted_response(
            outputs,
            channel,
            {name: responses[take.id] for name, take in taken.items() if take.id in responses},
            arrival_s=taken[channel].arrival_s,
        )
    except InvalidValue as error:
        faults.append(str(error))
        return None


def _by_channel(work: UnitOfWork, taken_in: Round, seat: Seat, job: Job) -> dict[str, TakeRecord]:
    """The take of every channel at the spot nearest to a seat's middle that tells its arrival."""
    middle = seat.place.as_array()
    spots = {spot.id: float(((spot.place.as_array() - middle) ** 2).sum()) for spot in job.plan.spots_of(seat.id)}
    found: dict[str, TakeRecord] = {}
    for take in work.takes.latest(taken_in.id):
        if take.spot_id not in spots or not take.usable or not take.has_response or not take.arrival_known:
            continue
        kept = found.get(take.channel)
        if kept is None or spots[take.spot_id] < spots[kept.spot_id]:
            found[take.channel] = take
    return found


def _same(after: Mapping[str, TakeRecord], channel: str, spot: int) -> list[TakeRecord]:
    """The channel's take after, if it is at that spot."""
    return [take for name, take in after.items() if name == channel and take.spot_id == spot]
