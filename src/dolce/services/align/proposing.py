"""What an alignment is put together from: every channel's reading, the subs as one, polarities held together."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import combinations
from statistics import median

from numpy.typing import NDArray

from dolce.core.acoustics import speed_of_sound
from dolce.core.alignment import (
    AlignmentTable,
    ChannelReading,
    JudgedPolarity,
    OffPlan,
    alike,
    direct_spectrum,
    judged_together,
    off_plan,
    table_of_arrivals,
)
from dolce.core.cache import Cache
from dolce.core.job import Job, Round, TakeRecord
from dolce.core.room import partner_of
from dolce.core.tuning import (
    Alignment,
    delay_step_s,
    level_weights,
    spot_weights,
    subs_against_main_channels,
    trim_step_db,
    usual_seat_weighting,
    with_table,
)
from dolce.core.tuning.readings import distances_m
from dolce.errors import Conflict
from dolce.services.align.bass_takes import bass_responses
from dolce.services.align.readings import group_reading, readings_of
from dolce.services.context import Context
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Proposal:
    """What the readings of a round propose under the options of an alignment.

    Attributes
    ----------
    alignment_table : None where something is missing, see `missing`
    judged : polarity of main channels, each alone and against its kind
    off : main channels that do not arrive as the plan says
    latency_s : of the chain, by the main channels' arrivals over their flight; None where not known
    """

    alignment_table: AlignmentTable | None
    missing: str
    judged: Mapping[str, JudgedPolarity]
    off: tuple[OffPlan, ...]
    latency_s: float | None


class Proposing:
    """Proposals, with what is kept of takes so that nothing is read twice."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._direct: Cache[int, tuple[NDArray, NDArray]] = Cache(2000)

    def proposal(self, work: UnitOfWork, job: Job, base: Round | None, alignment: Alignment) -> Proposal:
        """From a round, under what an alignment asks of levels and subs."""
        readings = (
            []
            if base is None
            else readings_of(
                work, job, base.id, seat_weighting=alignment.seat_weighting, band_hz=alignment.levels.band_hz
            )
        )
        missing = _missing(job, base, readings)
        if missing or base is None:
            return Proposal(alignment_table=None, missing=missing, judged={}, off=(), latency_s=None)
        judged = self._judged(work, job, base, readings)
        readings = [
            replace(reading, polarity=judged[reading.channel].polarity) if reading.channel in judged else reading
            for reading in readings
        ]
        main_channels = {
            reading.channel: reading.arrival_s
            for reading in readings
            if not reading.is_sub and reading.arrival_s is not None
        }
        distances = distances_m(job)
        speed = speed_of_sound(job.room.temperature_c)
        over = [arrival - distances[channel] / speed for channel, arrival in main_channels.items()]
        if alignment.subs is not None:
            group = self._group_reading(work, job, base, alignment, readings)
            readings = [reading for reading in readings if not reading.is_sub] + ([group] if group else [])
        limits = job.limits
        alignment_table = (
            None
            if len(readings) < 2
            else table_of_arrivals(
                readings,
                delay_step_s=_delay_step_s(job),
                options=alignment.levels,
                trim_step_db=trim_step_db(job.limits),
                highest_trim_db=limits.highest_trim_db if limits else 0.0,
            )
        )
        return Proposal(
            alignment_table=alignment_table,
            missing="",
            judged=judged,
            off=tuple(off_plan(main_channels, distances, speed_m_s=speed)),
            latency_s=median(over) if over else None,
        )

    def composed(self, work: UnitOfWork, job: Job, base: Round | None, alignment: Alignment) -> Alignment:
        """The alignment with all that its readings propose.

        Raises
        ------
        Conflict
            Where there is nothing to propose from.
        """
        found = self.proposal(work, job, base, alignment)
        if found.alignment_table is None or base is None:
            raise Conflict(
                found.missing or "there is nothing to propose yet.", where="align", remedy="Take what is missing first."
            )
        step, trim_step = _delay_step_s(job), trim_step_db(job.limits)
        alignment = replace(alignment, round_id=base.id)
        if alignment.subs is not None and not alignment.subs.held:
            weights = {
                spot: weight for spot, weight in spot_weights(job, usual_seat_weighting(job)).items() if weight > 0
            }
            responses = bass_responses(self._context.bass, work, job, base.id, job.channels, spots=tuple(weights))
            subs = subs_against_main_channels(job, alignment, found.alignment_table, responses, weights)
            alignment = replace(alignment, subs=subs)
        return with_table(alignment, found.alignment_table, delay_step_s=step, trim_step_db=trim_step)

    def _judged(
        self, work: UnitOfWork, job: Job, base: Round, readings: list[ChannelReading]
    ) -> dict[str, JudgedPolarity]:
        """Left and right of a kind held against each other by their direct sound at the main seat's centre.

        Only these: a centre or a surround is often another speaker, whose crossover turns its phase elsewhere.
        """
        polarities = {reading.channel: reading.polarity for reading in readings if not reading.is_sub}
        centre = job.plan.centre_spot
        takes = {
            take.channel: take
            for take in work.takes.latest(base.id)
            if take.channel in polarities
            and centre is not None
            and take.spot_id == centre.id
            and take.usable
            and take.has_response
            and not take.sounded
        }
        spectra = self._direct_sounds(work, takes)
        pairs = {(a, b): alike(spectra[a], spectra[b]) for a, b in combinations(spectra, 2) if partner_of(a) == b}
        return judged_together(polarities, pairs)

    def _direct_sounds(self, work: UnitOfWork, takes: Mapping[str, TakeRecord]) -> dict[str, tuple[NDArray, NDArray]]:
        arrivals = {take.id: take.arrival_s for take in takes.values()}
        found = {number: known for number in arrivals if (known := self._direct.get(number)) is not None}
        fresh = [number for number in arrivals if number not in found]
        for number, response in work.takes.responses(fresh) if fresh else ():
            found[number] = direct_spectrum(response, arrivals[number])
            self._direct.add(number, found[number])
        return {channel: found[take.id] for channel, take in takes.items() if take.id in found}

    def _group_reading(
        self, work: UnitOfWork, job: Job, base: Round, alignment: Alignment, readings: list[ChannelReading]
    ) -> ChannelReading | None:
        if alignment.subs is None:
            return None
        return group_reading(
            self._context.bass,
            work,
            job,
            base.id,
            alignment.subs,
            weights=level_weights(job, alignment.seat_weighting),
            main_channels=readings,
        )


def _delay_step_s(job: Job) -> float:
    return delay_step_s(job.limits, sample_rate_hz=job.rig.sample_rate_hz)


def _missing(job: Job, base: Round | None, readings: list[ChannelReading]) -> str:
    """Why there is no alignment table; empty where there is one."""
    centre = job.plan.centre_spot
    if base is None:
        return "Nothing is taken yet with the processor bypassed."
    if len(job.channels) < 2:
        return "One channel alone needs no levels or delays against others."
    if centre is None:
        return f"Lay out spots at {job.seat.name}, the main seat, first."
    if len(readings) < len(job.channels):
        taken = {r.channel for r in readings}
        without = [c for c in job.channels if c not in taken]
        return (
            f"Round {base.name} lacks {', '.join(without[:6])}{' ...' if len(without) > 6 else ''} at "
            f"{job.at_spot(centre.id)}, the centre of {job.seat.name}."
        )
    return ""
