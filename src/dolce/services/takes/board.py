"""The board of takes: what is there of a round by channel and spot, and what comes next."""

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, PassRecord, Round, TakeRecord, placement_of
from dolce.core.processor import BYPASS, ProcessorState
from dolce.core.rig import slate_missing
from dolce.errors import Conflict
from dolce.services.context import Context
from dolce.services.takes.take_making import playing_of
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True)
class Board:
    """All takes of the present round by channel and spot id, and what comes next.

    `away` counts takes of the round on spots and rows that are no longer there: they are kept, and count nowhere.
    `sketches` are small curves by number of the take.
    `moved` names what stands elsewhere now than for takes of the round: takes from now on would mix with them.
    """

    job: Job
    rounds: tuple[Round, ...]
    round: Round
    takes: dict[tuple[str, int], TakeRecord]
    next_spot: int | None
    away: int
    last_pass: PassRecord | None
    state_fits: bool
    moved: tuple[str, ...]
    sketches: dict[int, NDArray[np.float64]]

    @property
    def placement(self) -> list[int]:
        """Where the microphones go next: the leading one first; empty when nothing is missing."""
        return [] if self.next_spot is None else placement_of(self.job, self.next_spot)

    @property
    def slate_left(self) -> int:
        """Points of the neutral processor not ticked yet, before the first take through devices that can't be read."""
        if self.job.rig.processor.can.readable or self.round.state is not None:
            return 0
        return len(slate_missing(self.job.processor.slate))

    @property
    def last_recorder(self) -> str:
        """Recorder and gain of the last recording from elsewhere, as the person called them."""
        files = [take for take in self.takes.values() if take.source in ("file", "impulse", "curve")]
        return max(files, key=lambda take: take.id).recorder if files else ""

    @property
    def seconds(self) -> dict[str, float]:
        """How long a take of each row sounds, its repeats included."""
        return {
            feed.code: playing_of(self.job, feed).seconds * self.job.rows.how(feed).repeats for feed in self.job.feeds
        }

    def settled(self, channel: str, spot_id: int) -> bool:
        """Whether a cell asks for nothing more."""
        return is_settled(self.takes, channel, spot_id)

    @property
    def taken(self) -> int:
        return sum(self.settled(*cell) for cell in self.job.asked)

    @property
    def wanted(self) -> int:
        return len(self.job.asked)

    @property
    def last_take(self) -> int:
        """Number of the take that came in last, 0 before the first: by it a page shows how much it has seen."""
        return max((take.id for take in self.takes.values()), default=0)

    @property
    def to_repeat(self) -> list[TakeRecord]:
        return [take for take in self.takes.values() if not take.settled or take.word == "noisy"]

    def require_state(self) -> None:
        """Conflict where the processor is not as it was for the takes of the round."""
        taken = self.round.state
        if not self.state_fits and taken is not None:
            raise Conflict(
                f"the processor is {self.job.processor.full_description}, but the takes of round {self.round.name} "
                f"were made while it was {taken.full_description}.",
                where="round",
                remedy="Start a new round, or switch the processor back.",
            )


def board_of(context: Context, job_id: int) -> Board:
    """The board of the present round."""
    with context.look() as work:
        job = work.jobs.get(job_id)
        rounds = tuple(work.takes.rounds(job_id))
        present = next(r for r in rounds if r.id == job.round_id)
        latest = work.takes.latest(present.id)
        last_pass = work.passes.latest(job_id, "takes")
    there = {spot.id for spot in job.spots}
    rows = {feed.code for feed in job.feeds}
    takes = {(t.channel, t.spot_id): t for t in latest if t.spot_id in there and t.channel in rows}
    fits = present.state is None or present.state.sounds_like(job.processor, job.channels)
    return Board(
        job=job,
        moved=moved_since(job, takes),
        sketches=context.sketches.of(takes.values()),
        rounds=rounds,
        round=present,
        takes=takes,
        last_pass=last_pass,
        state_fits=fits,
        next_spot=_next_spot(job, takes),
        away=len(latest) - len(takes),
    )


def require_seen(board: Board, spots: set[int], seen: int | None, channel: str = "") -> None:
    """Conflict where takes came in at spots that the page which asks does not show: from the remote, or the laptop."""
    if seen is None:
        return
    new = [
        take for (code, spot), take in board.takes.items() if take.id > seen and spot in spots and channel in ("", code)
    ]
    if new:
        raise Conflict(
            f"{len(new)} {'take' if len(new) == 1 else 'takes'} came in there since this page was shown, "
            f"the last one {new[-1].channel}: nothing was played.",
            where=board.job.at_spot(new[-1].spot_id),
            remedy="Look at them; press again to take it once more.",
        )


def begin_round(work: UnitOfWork, board: Board) -> None:
    """A round's first take fixes its state; a round that was to be untouched and isn't gets its right name."""
    if board.round.state is None:
        state = board.job.processor
        others = [r.name for r in board.rounds if r.id != board.round.id]
        name = board.round.name if not _USUAL_NAME.fullmatch(board.round.name) else round_name(state, others)
        work.takes.set_round_state(board.round.id, state, name=name)


def is_settled(takes: dict[tuple[str, int], TakeRecord], channel: str, spot: int) -> bool:
    take = takes.get((channel, spot))
    return take is not None and take.settled


def moved_since(job: Job, takes: dict[tuple[str, int], TakeRecord]) -> tuple[str, ...]:
    """Speakers by code and spots by number that stand elsewhere now than when the round's takes were made."""
    speakers = [
        s.channel
        for s in job.speakers
        if any(
            take.speaker_place not in (None, s.place) for (channel, _), take in takes.items() if channel == s.channel
        )
    ]
    spots = [
        f"spot {s.number}"
        for s in job.spots
        if any(take.spot_place not in (None, s.place) for (_, spot), take in takes.items() if spot == s.id)
    ]
    return (*speakers, *spots)


def _next_spot(job: Job, takes: dict[tuple[str, int], TakeRecord]) -> int | None:
    """The first spot where something is missing or spoiled."""
    absent = {spot for code, spot in job.asked if not is_settled(takes, code, spot)}
    return next((spot.id for spot in job.spots if spot.id in absent), None)


_USUAL_NAME = re.compile(r"(Untouched|Aligned|Corrected)( \d+)?", re.ASCII)


def round_name(state: ProcessorState, present: list[str]) -> str:
    if state.active == BYPASS:
        base = "Untouched"
    elif not state.presets[state.active].ours:
        base = state.presets[state.active].name
    else:
        base = "Corrected" if state.corrects else "Aligned"
    if base not in present:
        return base
    return next(f"{base} {n}" for n in range(2, 1000) if f"{base} {n}" not in present)
