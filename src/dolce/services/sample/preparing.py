"""Takes of sample jobs, made in the background while everything else can be used.

Which jobs are still to be prepared stands in a file of the data folder, so the next start goes on where this one ended.
"""

import json
import logging
import threading
from collections.abc import Sequence
from dataclasses import dataclass

from dolce.devices.interface import SoundStopped
from dolce.errors import DolceError
from dolce.services.context import Context
from dolce.services.takes.taking import Taking

log = logging.getLogger(__name__)

FILE_NAME = "preparing.json"
_BREATH_S = 0.01                   # between two takes: pages come first


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

    def __init__(self, context: Context, taking: Taking) -> None:
        self._context, self._taking = context, taking
        self._file = context.database.folder / FILE_NAME
        self._present: Preparation | None = None
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    @property
    def present(self) -> Preparation | None:
        """What is being prepared now; None where nothing is."""
        return self._present

    def want(self, job_ids: Sequence[int]) -> None:
        """Jobs to prepare, in this order; nothing begins yet."""
        self._file.write_text(json.dumps(list(job_ids)))

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

    def _wanted(self) -> list[int]:
        try:
            found = json.loads(self._file.read_text())
        except (OSError, ValueError):
            return []
        return [one for one in found if isinstance(one, int)] if isinstance(found, list) else []

    def _run(self, wanted: list[int]) -> None:
        try:
            while wanted and not self._stop.is_set():
                self._prepare(wanted[0], waiting=len(wanted) - 1)
                if self._stop.is_set():
                    break
                wanted = wanted[1:]
                self.want(wanted)
            if not wanted:
                self._file.unlink(missing_ok=True)
        except OSError as error:
            log.error("what is to be prepared can't be noted: %s", error)
        finally:
            self._present = None

    def _prepare(self, job_id: int, *, waiting: int) -> None:
        """Every take of one job; ends early where somebody works on it, or where it is gone."""
        try:
            with self._context.look() as work:
                name = work.jobs.name(job_id)

            def told(done: int, of: int) -> None:
                self._present = Preparation(job_id=job_id, name=name, done=done, wanted=of, waiting=waiting)
                self._stop.wait(_BREATH_S)

            self._taking.rehearse(job_id, told=told, stopped=self._stop.is_set)
        except SoundStopped:
            log.info("preparing job %d was ended", job_id)
        except DolceError as error:
            log.warning("job %d is not prepared further: %s", job_id, error)
