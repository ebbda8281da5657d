"""Searches that run behind the pages: one a job, each in a thread of its own, stopped, and kept until the next."""

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Generic, Protocol, TypeVar

from dolce.errors import DolceError

_LOG = logging.getLogger(__name__)
Report = Callable[[float], None]


class Stopped(Exception):
    """Somebody stopped a search: nothing of it is kept."""


class Search(Protocol):
    """What every search has."""

    stop: threading.Event
    thread: threading.Thread | None


@dataclass(slots=True, kw_only=True)
class ReportedSearch:
    """Work that tells how far it is, and how it ended."""

    fraction: float = 0.0
    stop: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None
    done: bool = False
    stopped: bool = False
    fault: str = ""

    @property
    def running(self) -> bool:
        return not self.done

    def on_progress(self, fraction: float) -> None:
        """How far it is; Stopped where somebody stopped it."""
        self.fraction = fraction
        if self.stop.is_set():
            raise Stopped

    def run(self, task: Callable[[Report], None]) -> None:
        """Do it, and take down how it ended."""
        try:
            task(self.on_progress)
        except Stopped:
            self.stopped = True
        except DolceError as error:
            self.fault = str(error)
        except Exception as error:
            _LOG.exception("work behind the pages failed")
            self.fault = f"It failed: {error}"
        self.done = True


Kind = TypeVar("Kind", bound=Search)


class Searches(Generic[Kind]):
    """Searches by job."""

    def __init__(self) -> None:
        self._kept: dict[int, Kind] = {}
        self._asked: dict[int, object] = {}
        self._turn = threading.RLock()  # presses come at once: one begins or stops after the other

    def of(self, job_id: int) -> Kind | None:
        """The last one of a job."""
        return self._kept.get(job_id)

    def start(self, job_id: int, search: Kind, thread: threading.Thread, *, asked: object) -> None:
        """Begin one; that which runs ends first, unless it looks for just what is `asked`: then it goes on, and no
        other begins, however often the button is pressed.
        """
        with self._turn:
            running = self._kept.get(job_id)
            if (
                running is not None
                and running.thread is not None
                and running.thread.is_alive()
                and not running.stop.is_set()
                and self._asked.get(job_id) == asked
            ):
                return
            self.stop(job_id)
            search.thread = thread
            self._kept[job_id], self._asked[job_id] = search, asked
            thread.start()

    def begin(self, job_id: int, search: Kind, run: Callable[[], None], *, name: str, asked: object) -> None:
        """Begin one in a thread of that name."""
        self.start(job_id, search, threading.Thread(target=run, daemon=True, name=name), asked=asked)

    def stop(self, job_id: int) -> None:
        """End it, with what it makes of that."""
        with self._turn:
            search = self._kept.get(job_id)
            if search is not None:
                search.stop.set()
            self.wait(job_id)

    def wait(self, job_id: int) -> None:
        """Until it is done."""
        search = self._kept.get(job_id)
        if search is not None and search.thread is not None:
            search.thread.join()

    def close(self) -> None:
        """End all of them."""
        for job_id in list(self._kept):
            self.stop(job_id)
