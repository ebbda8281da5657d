"""A round now against one of then: what drifted in a room that should be as it was."""

from dataclasses import dataclass, replace

from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Alignment, ChangeSince, Correction, arrivals_apart, change_of
from dolce.errors import InvalidValue
from dolce.services.align.readings import aligned_readings
from dolce.services.context import Context
from dolce.services.shape.present_correction import present_correction
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeView:
    """Two rounds against each other, channel by channel.

    Attributes
    ----------
    rounds : all rounds that hold takes
    then, now : None where there are less than two
    same_state : whether both were taken through what sounds the same
    """

    job: Job
    rounds: tuple[Round, ...]
    then: Round | None
    now: Round | None
    same_state: bool
    rows: tuple[ChangeSince, ...]

    @property
    def drifted(self) -> tuple[ChangeSince, ...]:
        """Channels of which more changed than placing explains."""
        return tuple(row for row in self.rows if row.beyond_repeats)


def change_view(context: Context, work: UnitOfWork, job: Job, *, now: int | None, then: int | None) -> ChangeView:
    """What drifted between two rounds; where none are said, between the latest and the one before in its state.

    Raises
    ------
    InvalidValue
        If a round is not of this job.
    """
    rounds = tuple(
        round_ for round_ in work.takes.rounds(job.id) if round_.state is not None and work.takes.has_any(round_.id)
    )
    by_id = {round_.id: round_ for round_ in rounds}
    if {now, then} - {None} - set(by_id):
        raise InvalidValue(
            "that round is not of this job, or holds no take.", where="round", remedy="Choose one of the list."
        )
    if len(rounds) < 2:
        return ChangeView(job=job, rounds=rounds, then=None, now=None, same_state=True, rows=())
    later = rounds[-1] if now is None else by_id[now]
    others = [round_ for round_ in rounds if round_.id != later.id]
    alike = [other for other in others if other.held.sounds_like(later.held, job.channels)]
    earlier = (alike or others)[0] if then is None else by_id[then]
    return ChangeView(
        job=job,
        rounds=rounds,
        then=earlier,
        now=later,
        same_state=earlier.held.sounds_like(later.held, job.channels),
        rows=_rows(context, work, job, earlier, later),
    )


def _rows(context: Context, work: UnitOfWork, job: Job, then: Round, now: Round) -> tuple[ChangeSince, ...]:
    correction: Correction = present_correction(work, job)
    before, after = (context.curves.of(work, round_.id) for round_ in (then, now))
    readings = [
        {reading.channel: reading for reading in aligned_readings(context.bass, work, job, round_id.id, Alignment())}
        for round_id in (then, now)
    ]
    later = arrivals_apart(
        *(
            {name: reading.arrival_s for name, reading in of_round.items() if reading.arrival_s is not None}
            for of_round in readings
        )
    )
    rows = []
    for channel in job.channels:
        if channel not in before or channel not in after:
            continue
        limits = correction.limits_for(channel)
        found = change_of(
            channel,
            ANALYSIS_GRID_HZ,
            before[channel].spots,
            after[channel].spots,
            level_band_hz=correction.level_band_hz(channel),
            range_hz=(limits.from_hz, max(limits.to_hz, 120.0 if job.speaker(channel).is_sub else 10_000.0)),
        )
        if found is None:
            continue
        sides = {of_round[channel].polarity for of_round in readings if channel in of_round}
        rows.append(replace(found, arrival_s=later.get(channel), turned=sides == {"normal", "inverted"}))
    return tuple(rows)
