"""Searches that run behind the pages: one a job, each in a thread of its own, stopped, and kept until the next."""

import threading
from typing import Generic, Protocol, TypeVar


class Search(Protocol):
    """What every search has."""

    stop: threading.Event
    thread: threading.Thread | None


Kind = TypeVar("Kind", bound=Search)


class Searches(Generic[Kind]):
    """Searches by job."""

    def __init__(self) -> None:
        self._kept: dict[int, Kind] = {}

    def of(self, job_id: int) -> Kind | None:
        """The last one of a job."""
        return self._kept.get(job_id)

    def start(self, job_id: int, search: Kind, thread: threading.Thread) -> None:
        """Begin one; that which runs ends first."""
        self.stop(job_id)
        search.thread = thread
        self._kept[job_id] = search
        thread.start()

    def stop(self, job_id: int) -> None:
        """End it, with what it makes of that."""
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
