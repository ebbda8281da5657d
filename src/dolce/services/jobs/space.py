"""What the data folder takes on the disk, and giving back what is not needed."""

from collections.abc import Callable
from dataclasses import dataclass

from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context
from dolce.services.jobs.folder_work import FolderWork, Work

WORTH_BYTES = 8 << 20  # less free space than that is not worth a word: it is used again by itself


@dataclass(frozen=True, slots=True, kw_only=True)
class SpaceView:
    """How large the database is, how much of it is free, and how many deleted jobs still lie in it."""

    size_bytes: int
    free_bytes: int
    deleted: int

    @property
    def worth(self) -> bool:
        """Whether there is something to give back."""
        return self.free_bytes >= WORTH_BYTES or self.deleted > 0


class Space:
    """The disk space of one data folder."""

    def __init__(self, context: Context, folder_work: FolderWork) -> None:
        self._context = context
        self._folder_work = folder_work

    def view(self) -> SpaceView:
        size, free = self._context.database.space()
        with self._context.look() as work:
            return SpaceView(size_bytes=size, free_bytes=free, deleted=len(work.jobs.deleted()))

    def begin(self) -> Work:
        """Let go of deleted jobs for good, and make the file as small as what is in it, behind the pages.

        Stopped in between, it is smaller by what was done by then.

        Raises
        ------
        Conflict
            While a pass is running, or other work on the folder.
        InvalidValue
            Where there is nothing to give back.
        """
        before = self.view()
        if not before.worth:
            raise InvalidValue("there is nothing to give back.", where="space", remedy="Delete a job first.")
        with self._context.look() as work:
            if work.passes.running() is not None:
                raise Conflict("a pass is running.", where="space", remedy="Stop it first, or wait until it has ended.")

        def give_back(on_progress: Callable[[float], None]) -> str:
            with self._context.look() as work:
                gone = [job_id for job_id, *_ in work.jobs.deleted()]
            for number, job_id in enumerate(gone):
                on_progress(0.4 * number / len(gone))
                with self._context.change() as work:
                    work.jobs.purge(job_id)
            self._context.database.compact(lambda part: on_progress(0.4 + 0.6 * part))
            after, _ = self._context.database.space()
            return f"{(before.size_bytes - after) / 1e6:.0f} MB given back; {after / 1e6:.0f} MB are in use."

        return self._folder_work.begin(
            Work(kind="space", what="what is not needed"), give_back, otherwise="what was given back by then stays so."
        )
