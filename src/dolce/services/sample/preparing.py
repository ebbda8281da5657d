"""Takes of sample jobs, made in the background while everything else can be used.

Some of them are brought to their end besides. What is still to be prepared stands in a file of the data folder, so the
next start goes on where this one ended.
"""

import json
import logging
import threading
from collections.abc import Sequence
from dataclasses import dataclass

from dolce.devices.interface import SoundStopped
from dolce.errors import DolceError
from dolce.services.context import Context
from dolce.services.sample.finishing import Finishing
from dolce.services.takes.taking import Taking
from dolce.store import write_whole

Piece = int | list  # a job to take; or its number and "to the end"
log = logging.getLogger(__name__)

FILE_NAME = "preparing.json"
_BREATH_S = 0.01  # between two takes: pages come first


@dataclass(frozen=True, slots=True, kw_only=True)
class Preparation:
    """What is being prepared: a job's number and name, and how many of its takes are there."""

    job_id: int
    name: str
    done: int
    wanted: int
    waiting: int


class Preparing:
    """Fills sample jobs with takes of the rehearsal rig. It makes no sound and keeps no pass from running."""

    def __init__(self, context: Context, taking: Taking, finishing: Finishing) -> None:
        self._context, self._taking, self._finishing = context, taking, finishing
        self._file = context.database.folder / FILE_NAME
        self._present: Preparation | None = None
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    @property
    def present(self) -> Preparation | None:
        """What is being prepared now; None where nothing is."""
        return self._present

    def want(self, job_ids: Sequence[int], *, to_the_end: Sequence[int] = ()) -> None:
        """Jobs to take, in this order, and then those to bring to their end; nothing begins yet."""
        self._keep([*job_ids, *([job_id, "to the end"] for job_id in to_the_end)])

    def _keep(self, wanted: Sequence[Piece]) -> None:
        write_whole(self._file, json.dumps(list(wanted)).encode())

    def begin(self) -> None:
        """Go on with what is still to be prepared, in a thread of its own."""
        wanted = self._wanted()
        if not wanted or (self._thread is not None and self._thread.is_alive()):
            return
        self._stop.clear()
        self._thread = threading.Thread(target=self._run, args=(wanted,), name="preparing", daemon=True)
        self._thread.start()

    def wait(self, timeout_s: float | None = None) -> None:
        """Until it has ended."""
        if self._thread is not None:
            self._thread.join(timeout_s)

    def give_up(self) -> None:
        """End it for good: what is there stays, the rest is not made any more."""
        self.close()
        self._file.unlink(missing_ok=True)

    def close(self) -> None:
        """End it; the next start goes on."""
        self._stop.set()
        self.wait()

    def _wanted(self) -> list[Piece]:
        try:
            found = json.loads(self._file.read_text())
        except (OSError, ValueError):
            return []
        return (
            [
                id_
                for id_ in found
                if isinstance(id_, int) or (isinstance(id_, list) and len(id_) == 2 and isinstance(id_[0], int))
            ]
            if isinstance(found, list)
            else []
        )

    def _run(self, wanted: list[Piece]) -> None:
        try:
            while wanted and not self._stop.is_set():
                self._prepare(wanted[0], waiting=len(wanted) - 1)
                if self._stop.is_set():
                    break
                wanted = wanted[1:]
                self._keep(wanted)
            if not wanted:
                self._file.unlink(missing_ok=True)
        except OSError as error:
            log.error("what is to be prepared can't be noted: %s", error)
        finally:
            self._present = None

    def _prepare(self, piece: Piece, *, waiting: int) -> None:
        """Every take of one job, or all that follows; ends early where somebody works on it, or where it is gone."""
        job_id, work_on = (piece, self._taking.rehearse) if isinstance(piece, int) else (piece[0], self._finishing.run)
        try:
            with self._context.look() as work:
                name = work.jobs.name(job_id)

            def on_progress(done: int, of: int) -> None:
                self._present = Preparation(job_id=job_id, name=name, done=done, wanted=of, waiting=waiting)
                self._stop.wait(_BREATH_S)

            work_on(job_id, on_progress=on_progress, stopped=self._stop.is_set)
        except SoundStopped:
            log.info("preparing job %d was ended", job_id)
        except DolceError as error:
            log.warning("job %d is not prepared further: %s", job_id, error)
