"""Rounds of a job: begun and chosen."""

from dolce.core import checked
from dolce.core.job import Round
from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context
from dolce.services.takes.board import round_name


class Rounds:
    """Rounds of takes, each made while the system was in one state."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def new(self, job_id: int, *, name: str = "") -> Round:
        """A round for the processor's present state, under a name or named after that state."""
        now, wanted = self._context.now(), checked.text(name.strip(), longest=40, where="round")
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            present = [r.name for r in work.takes.rounds(job_id)]
            if wanted in present:
                raise Conflict(f"there is a round {wanted} already.", where="round", remedy="Choose another name.")
            name = wanted or round_name(job.processor, present)
            made = work.takes.add_round(job_id, name=name, at=now)
            work.jobs.set_round(job_id, made.id)
            work.logbook.add(job_id, f"Round {name} begun, processor {job.processor.description}.", at=now)
        return made

    def choose(self, job_id: int, round_id: int) -> None:
        with self._context.change() as work:
            if round_id not in [r.id for r in work.takes.rounds(job_id)]:
                raise InvalidValue("that round is not of this job.", where="round", remedy="Reload the page.")
            work.jobs.set_round(job_id, round_id)
