"""Crossovers, routing and the effects channel: who plays the bass, and what the sums make of it at every seat."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import partial

from dolce.core.alignment.crossover_frequency import distorts_below_hz
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.processor import BassManagement, Crossover, Effects
from dolce.core.room import group_of
from dolce.core.subs import SubGroup, SubSetting
from dolce.core.tuning import (
    Alignment,
    ChannelAlignment,
    CrossoverSum,
    GroupCrossover,
    Protection,
    group_crossovers,
    large_losses,
    main_channels_later_s,
    protections,
    spot_weights,
    sums_at_seats,
    usual_seat_weighting,
)
from dolce.errors import Conflict, InvalidValue
from dolce.services.align.aligning import Aligning
from dolce.services.align.bass_takes import bass_responses
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.read.take_details import distortion_in
from dolce.store import UnitOfWork

USUAL_HZ = 80.0  # common practice


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CrossingView:
    """Crossovers, and the sums around them; `missing` says why there is nothing to show.

    Attributes
    ----------
    alignment : what is shown: what is chosen, or what would be with the usual crossover frequency
    set : whether crossovers are chosen
    seats : names
    crossover_sums : by channel, where both were taken
    later_s : by how much main channels wait for the subs
    effects_meter_db : what a plain C-weighted meter shows for the effects channel beside a main channel
    bad : channels whose sum loses much at some seat, with that seat and the loss
    protections : subs, and main channels that no crossover relieves, with a high-pass below their end
    """

    job: Job
    round: Round | None
    missing: str
    alignment: Alignment | None = None
    set: bool = False
    seats: tuple[str, ...] = ()
    groups: tuple[GroupCrossover, ...] = ()
    crossover_sums: Mapping[str, CrossoverSum]
    later_s: float = 0.0
    effects_meter_db: float = 0.0
    bad: tuple[tuple[str, str, float], ...] = ()
    protections: tuple[Protection, ...] = ()


class Crossing:
    """Who plays the bass of each channel."""

    def __init__(self, context: Context, aligning: Aligning) -> None:
        self._context, self._aligning = context, aligning
        self._distorts: dict[int, float | None] = {}  # by take

    def view(self, job_id: int) -> CrossingView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id) or Alignment()
            base = base_round(work, job, kept=alignment.round_id)
            missing = _missing(job, base)
            if missing or base is None:
                return CrossingView(job=job, round=base, missing=missing, crossover_sums={})
            curves = self._context.curves.of(work, base.id)
            looked = self._looked(work, job, base)
            usual = usual_seat_weighting(job)
            usual_spots = spot_weights(job, usual)
            spots = [spot for spot in job.spots if usual.of_seat(spot.seat_id) > 0]
            responses = bass_responses(
                self._context.bass, work, job, base.id, job.channels, spots=[spot.id for spot in spots]
            )
        self._read_ahead(looked)
        chosen = alignment.routing is not None
        seats = [seat for seat in job.plan.seats if any(spot.seat_id == seat.id for spot in spots)]
        sums = sums_at_seats(job, alignment, responses, seats) if chosen else {}
        return CrossingView(
            job=job,
            round=base,
            missing="",
            alignment=alignment,
            set=chosen,
            seats=tuple(seat.name for seat in seats),
            groups=group_crossovers(
                job, alignment, curves, {channel: self._distorts.get(take.id) for channel, take in looked.items()}
            ),
            crossover_sums=sums,
            later_s=main_channels_later_s(alignment),
            effects_meter_db=((alignment.routing and alignment.routing.effects) or Effects()).on_a_meter_db,
            bad=large_losses(sums, seats),
            protections=protections(job, alignment, curves, usual_spots),
        )

    @staticmethod
    def _looked(work: UnitOfWork, job: Job, base: Round | None) -> dict[str, TakeRecord]:
        """Takes of main channels at the main seat's centre, in which distortion can be read."""
        centre = job.plan.centre_spot
        if base is None or centre is None:
            return {}
        return {
            take.channel: take
            for take in work.takes.latest(base.id)
            if take.spot_id == centre.id
            and take.source == "rig"
            and take.signal == "sweep"
            and take.usable
            and take.channel in job.main_channels
        }

    def _read(self, take: TakeRecord) -> None:
        with self._context.look() as work:
            found = distortion_in(work, take)
        self._distorts[take.id] = distorts_below_hz(found.frequency_hz, found.total_db, found.noise_db)

    def _read_ahead(self, takes: Mapping[str, TakeRecord]) -> None:
        """Where main channels distort, from their recordings at the main seat's centre."""
        fresh = [take for take in takes.values() if take.id not in self._distorts]
        self._context.background.begin(
            "crossovers", tuple(take.id for take in fresh), lambda: [partial(self._read, take) for take in fresh]
        )

    def set_crossovers(
        self,
        job_id: int,
        crossovers: Mapping[str, Crossover | None],
        *,
        low_pass: Crossover | None = None,
        effects: Effects | None = None,
        most_wait_s: float | None = None,
    ) -> None:
        """Crossovers by group of main channels; None for the whole range. The subs' delay and polarity are found anew.

        `most_wait_s` is how much later than need be the subs may make the main channels; None for as before.

        Raises
        ------
        Conflict
            Where there is no sub, or nothing to find it from.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        subs = job.subs
        if not subs:
            raise Conflict("there is no sub to play the bass.", where="crossovers", remedy="Add one in Room.")
        crossed = [chosen for chosen in crossovers.values() if chosen is not None]
        usual = crossed[0] if crossed else Crossover(frequency_hz=USUAL_HZ)
        by_channel = {
            channel: crossovers.get(group_of(channel))
            for channel in job.main_channels
            if crossovers.get(group_of(channel)) != usual
        }

        def changed(alignment: Alignment) -> Alignment:
            before = alignment.routing
            routing = BassManagement(
                crossover=usual,
                subs=subs,
                by_channel=by_channel,
                low_pass=low_pass,
                sub_gain_db=0.0,
                effects=effects,
                sends=before.sends if before else {},
            )
            group = alignment.subs or SubGroup.of(dict.fromkeys(subs, SubSetting()), how="as they are")
            return replace(
                alignment,
                routing=routing,
                subs=group if most_wait_s is None else replace(group, most_wait_s=most_wait_s),
            )

        self._aligning.change(job_id, "of crossovers", changed)

    def use_proposed(self, job_id: int) -> None:
        """Crossovers of all groups as they are proposed, with the effects channel on the subs; errors as above."""
        with self._context.look() as work:
            job, alignment = work.jobs.get(job_id), work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            fresh = [take for take in self._looked(work, job, base).values() if take.id not in self._distorts]
        for take in fresh:  # a proposal stands on all that is known, not on what was read by chance
            self._read(take)
        view = self.view(job_id)
        if view.missing:
            raise Conflict(view.missing, where="crossovers", remedy="Take what is missing first.")
        self.set_crossovers(
            job_id,
            {group.group: group.crossover or Crossover(frequency_hz=group.proposed_hz) for group in view.groups},
            effects=Effects(),
        )

    def protect(self, job_id: int, channel: str, frequency_hz: float | None) -> None:
        """A high-pass of 24 dB per octave for one output, or for all subs of a group; None takes it off."""
        with self._context.look() as work:
            work.jobs.get(job_id).speaker(channel)
        high_pass = None if frequency_hz is None else Crossover(frequency_hz=frequency_hz, kind="butterworth")

        def changed(alignment: Alignment) -> Alignment:
            group = alignment.subs.settings if alignment.subs else {}
            of = tuple(group) if channel in group else (channel,)
            return replace(
                alignment,
                channels={
                    **alignment.channels,
                    **{
                        channel: replace(alignment.channels.get(channel, ChannelAlignment()), high_pass=high_pass)
                        for channel in of
                    },
                },
            )

        self._aligning.change(
            job_id,
            f"high-pass of {channel} " + ("removed" if frequency_hz is None else f"at {frequency_hz:g} Hz"),
            changed,
        )

    def without_crossovers(self, job_id: int) -> None:
        """Every channel plays its whole range itself again."""
        self._aligning.change(
            job_id, "without crossovers", lambda alignment: replace(alignment, routing=None, common_bass=None)
        )

    def hold_group(self, job_id: int, *, delay_s: float, polarity: int) -> None:
        """Delay and polarity of all subs against the main channels by hand."""

        def changed(alignment: Alignment) -> Alignment:
            if alignment.subs is None:
                raise Conflict("the subs are no group yet.", where="subs", remedy="Use settings of the subs first.")
            return replace(
                alignment,
                subs=alignment.subs.against_main_channels(
                    delay_s=delay_s, polarity=1 if polarity > 0 else -1, held=True
                ),
            )

        self._aligning.change(job_id, "of the subs against the main channels by hand", changed)

    def find_group(self, job_id: int) -> None:
        """Look for them again."""
        self._aligning.change(
            job_id,
            "of the subs against the main channels, optimised",
            lambda alignment: replace(alignment, subs=alignment.subs and replace(alignment.subs, held=False)),
        )

    def send(self, job_id: int, channel: str, output: str, gain_db: float | None) -> None:
        """Let an output play a channel besides; None takes it off.

        Raises
        ------
        InvalidValue
            If there is no such channel or output, or the gain is out of range.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        for code in (channel, output):
            job.speaker(code)
        if channel == output or (gain_db is not None and not -40 <= gain_db <= 6):
            raise InvalidValue(
                f"{channel} on {output} with {gain_db if gain_db is not None else 0:g} dB.",
                where="routing",
                remedy="Choose two channels, and -40 to +6 dB.",
            )

        def changed(alignment: Alignment) -> Alignment:
            routing = alignment.routing or BassManagement(crossover=Crossover(frequency_hz=USUAL_HZ), subs=())
            sends = {code: dict(to) for code, to in routing.sends.items()}
            sends.setdefault(channel, {}).pop(output, None)
            if gain_db is not None:
                sends[channel][output] = gain_db
            return replace(alignment, routing=replace(routing, sends={c: to for c, to in sends.items() if to}))

        self._aligning.change(job_id, "of routing", changed)


def _missing(job: Job, base: Round | None) -> str:
    if not job.subs:
        return "There is no sub in this room: every channel plays its full range itself."
    if base is None:
        return "Nothing is taken yet with the processor bypassed."
    return ""
