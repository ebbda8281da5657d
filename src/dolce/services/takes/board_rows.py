"""What is taken in a job: rows of several channels at once, and how groups and rows are played."""

from collections.abc import Callable, Mapping

from dolce.core.job import GROUPS, JOINED, HowTaken, Job, Rows, label_of
from dolce.errors import InvalidValue
from dolce.services.context import Context


class BoardRows:
    """Rows of one job's board."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def add_combination(self, job_id: int, channels: tuple[str, ...]) -> None:
        """A row in which channels sound at once; InvalidValue where it can't be."""
        for channel in channels:
            self._job(job_id).speaker(channel)
        self._change(
            job_id,
            lambda job: job.rows.with_combination(job.plan, channels),
            f"{label_of(JOINED.join(channels))} together are a row from now on.",
        )

    def remove_combination(self, job_id: int, code: str) -> None:
        """Take such a row off the board; its takes are kept."""
        self._change(
            job_id,
            lambda job: job.rows.without_combination(job.plan, code),
            f"{label_of(code)} together are no row any more; takes are kept.",
        )

    def set_how(self, job_id: int, hows: Mapping[str, HowTaken | None]) -> None:
        """How groups and rows are played, by group or code; None for as usual."""

        def changed(job: Job) -> Rows:
            rows = job.rows
            for name, how in hows.items():
                if name not in GROUPS and name not in [feed.code for feed in job.feeds]:
                    raise InvalidValue(f"there is no row {name[:40]!r}.", where="rows", remedy="Reload the page.")
                rows = rows.with_how(name, how)
            return rows

        self._change(job_id, changed, "How rows are played was changed.")

    def _job(self, job_id: int) -> Job:
        with self._context.look() as work:
            return work.jobs.get(job_id)

    def _change(self, job_id: int, changed: Callable[[Job], Rows], summary: str) -> None:
        now = self._context.now()
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            rows = changed(job)
            if rows == job.rows:
                return
            work.jobs.set_rows(job_id, rows)
            work.logbook.add(job_id, summary, at=now)
            work.jobs.touch(job_id, now)
