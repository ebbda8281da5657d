"""One cell of the board: its attempts, which of them counts, and what a person says of it."""

from collections.abc import Callable
from dataclasses import dataclass

from dolce.core import checked
from dolce.core.job import Job, Round, TakeRecord, label_of
from dolce.errors import InvalidValue
from dolce.services.context import Context
from dolce.store import UnitOfWork

LONGEST_NOTE = 200


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Cell:
    """All attempts of a channel at a spot, the last first, and the one that counts; None before the first."""

    job: Job
    round: Round
    channel: str
    spot_id: int
    attempts: tuple[TakeRecord, ...]
    counts: TakeRecord | None


class Cells:
    """Cells of one job's present round."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int, channel: str, spot_id: int) -> Cell:
        """A cell of the present round.

        Raises
        ------
        NotFound
            If there is no such channel or spot.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            job.feed(channel)
            job.spot(spot_id)
            present = next(r for r in work.takes.rounds(job_id) if r.id == job.round_id)
            counts = next(
                (t for t in work.takes.latest(present.id) if (t.channel, t.spot_id) == (channel, spot_id)), None
            )
            return Cell(
                job=job,
                round=present,
                channel=channel,
                spot_id=spot_id,
                counts=counts,
                attempts=tuple(work.takes.of_cell(present.id, channel, spot_id)),
            )

    def place_of(self, job_id: int, take_id: int) -> tuple[str, int]:
        """Channel and spot of a take of a job."""
        with self._context.look() as work:
            self._require_of_job(work, job_id, take_id)
            take = work.takes.get(take_id)
            return take.channel, take.spot_id

    def note(self, job_id: int, take_id: int, text: str) -> None:
        """Keep a note with a take."""
        note = checked.text(text.strip(), longest=LONGEST_NOTE, where="note")
        self._change(
            job_id,
            take_id,
            "noted: " + note if note else "note taken off",
            lambda work: work.takes.edit(take_id, note=note),
        )

    def leave_out(self, job_id: int, take_id: int, reason: str) -> None:
        """Keep a take out of all averages, with the reason."""
        why = checked.text(reason.strip(), longest=LONGEST_NOTE, where="reason")
        if not why:
            raise InvalidValue(
                "no reason was given.",
                where="reason",
                remedy="Say why this take is left out, such as a door that slammed.",
            )
        self._change(
            job_id, take_id, f"left out of averages: {why}", lambda work: work.takes.edit(take_id, left_out=why)
        )

    def take_in(self, job_id: int, take_id: int) -> None:
        """Let a take count again."""
        self._change(job_id, take_id, "counts again", lambda work: work.takes.edit(take_id, left_out=""))

    def put_back(self, job_id: int, take_id: int) -> None:
        """Let an older attempt count in place of a later one."""
        self._change(job_id, take_id, "put back in place of a later one", lambda work: work.takes.prefer(take_id))

    def remove(self, job_id: int, take_id: int) -> None:
        """Delete a take; it can be brought back."""
        self._change(job_id, take_id, "deleted", lambda work: work.takes.edit(take_id, removed=True))

    def bring_back(self, job_id: int, take_id: int) -> None:
        """Undo a deletion."""
        self._change(job_id, take_id, "brought back", lambda work: work.takes.edit(take_id, removed=False))

    def _change(self, job_id: int, take_id: int, what: str, change: Callable[[UnitOfWork], object]) -> None:
        now = self._context.now()
        with self._context.change() as work:
            self._require_of_job(work, job_id, take_id)
            take, job = work.takes.get(take_id), work.jobs.get(job_id)
            change(work)
            work.logbook.add(
                job_id,
                f"Take of {label_of(take.channel)} at {job.at_spot(take.spot_id)}, attempt {take.attempt}, {what}.",
                at=now,
            )
            work.jobs.touch(job_id, now)

    @staticmethod
    def _require_of_job(work: UnitOfWork, job_id: int, take_id: int) -> None:
        if work.takes.job_of(take_id) != job_id:
            raise InvalidValue("that take is not of this job.", where="takes", remedy="Reload the page.")
