"""Whether an alignment does what it promises: a round that was taken through it, held against its prediction."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment import ChannelKept, Match, against_prediction, match_of
from dolce.core.dsp import energy_mean_db
from dolce.core.job import Job, Round
from dolce.core.room import Seat
from dolce.core.tuning import Alignment, Outputs
from dolce.services.align.predicted import predicted_levels
from dolce.services.align.readings import aligned_readings
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AlignedProof:
    """What a round taken through the alignment says; `round` is None where none was taken yet."""

    job: Job
    base: Round | None
    round: Round | None
    channels: tuple[ChannelKept, ...] = ()
    absent: tuple[str, ...] = ()
    match: Match | None = None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatCurves:
    """One channel at one seat: as it was, as alignments will make it, and as it was taken; shape (points,) or None.

    Attributes
    ----------
    before_db : the channel alone, in the round that it stands on
    predicted_db, other_db : by the present alignment, and by one that was kept
    taken_db : in the round that was taken through the present one
    """

    channel: str
    seat: Seat
    before_db: NDArray[np.float64]
    predicted_db: NDArray[np.float64] | None
    other_db: NDArray[np.float64] | None
    taken_db: NDArray[np.float64] | None


class AligningProved:
    """Alignments held against what was taken through them."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> AlignedProof:
        """Of the present alignment, with the latest round that was taken through it and no correction."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            if alignment is None or base is None:
                return AlignedProof(job=job, base=base, round=None)
            taken = next((r for r in reversed(work.takes.rounds(job_id)) if _through(r, alignment, job)), None)
            if taken is None:
                return AlignedProof(job=job, base=base, round=None)
            found = self._channels(work, job, alignment, base, taken)
            wanted: Mapping[str, float] = {c: alignment.levels.offset_db(c) for c in job.channels}
            match = match_of(
                aligned_readings(self._context.bass, work, job, taken.id, alignment, wanted_db=wanted, since=base.id)
            )
        return AlignedProof(
            job=job,
            base=base,
            round=taken,
            channels=found,
            match=match,
            absent=tuple(c for c in job.channels if c not in [kept.channel for kept in found]),
        )

    def curves(self, job_id: int, *, channel: str, seat_id: int | None, version: int | None) -> SeatCurves | None:
        """A channel at a seat (the main seat where none is named), over 1/12 octave; None where nothing was taken."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            seat = next((seat for seat in job.plan.seats if seat.id == seat_id), job.plan.main_seat)
            if alignment is None or base is None:
                return None
            curves = self._context.curves.of(work, base.id)
            spots = [spot.id for spot in job.plan.spots_of(seat.id)]
            at_seat = curves[channel].at(spots) if channel in curves else None
            if at_seat is None:
                return None
            kept = None if version is None else work.alignment_versions.get(job_id, version).alignment

            def predicted(alignment: Alignment | None) -> NDArray | None:
                levels = (
                    None
                    if alignment is None
                    else predicted_levels(
                        self._context,
                        work,
                        job,
                        Outputs.of(
                            alignment, None, job.channels, sample_rate_hz=job.rig.sample_rate_hz, device=job.limits
                        ),
                        round_id=base.id,
                        channels=(channel,),
                        spots=spots,
                    )
                )
                return None if levels is None else energy_mean_db(levels.level_db)

            taken = next((r for r in reversed(work.takes.rounds(job_id)) if _through(r, alignment, job)), None)
            after = self._context.curves.of(work, taken.id).get(channel) if taken else None
            measured = after.at(spots) if after else None
            return SeatCurves(
                channel=channel,
                seat=seat,
                before_db=at_seat.average.level_db,
                predicted_db=predicted(alignment),
                other_db=predicted(kept),
                taken_db=None if measured is None or taken is None else measured.average.level_db + taken.held.cut_db,
            )

    def _channels(
        self, work: UnitOfWork, job: Job, alignment: Alignment, base: Round, taken: Round
    ) -> tuple[ChannelKept, ...]:
        outputs, after = (
            Outputs.of(alignment, None, job.channels, sample_rate_hz=job.rig.sample_rate_hz, device=job.limits),
            self._context.curves.of(work, taken.id),
        )
        found = []
        for channel in (c for c in job.channels if c in after):
            measured = after[channel].spots
            predicted = predicted_levels(
                self._context, work, job, outputs, round_id=base.id, channels=(channel,), spots=measured.spots
            )
            if predicted is None:
                continue
            rows = [measured.spots.index(spot) for spot in predicted.spots]
            taken_db = measured.level_db[rows] + taken.held.cut_db
            found.append(against_prediction(channel, taken_db, predicted.level_db))
        return tuple(found)


def _through(found: Round, alignment: Alignment, job: Job) -> bool:
    """Whether a round was taken through an alignment, without a correction."""
    state = found.state
    if state is None or state.bypassed or state.presets[state.active].corrects:
        return False
    preset = state.presets[state.active]
    return preset.bass == alignment.routing_at(job.rig.sample_rate_hz) and all(
        preset.channels.get(channel) == alignment.settings(channel) for channel in job.channels
    )
