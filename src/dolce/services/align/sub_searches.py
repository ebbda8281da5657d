"""Searches for settings of subs: one a job, each in a thread of its own, told of, stopped, and kept until the next."""

import logging
import threading
from dataclasses import dataclass

from dolce.core.subs import BassField, Found, SearchLimits, search_with_trade

_LOG = logging.getLogger(__name__)


@dataclass(slots=True, kw_only=True)
class Searching:
    """A search for one job: how far it is, and what came of it."""

    rests_on: tuple
    limits: SearchLimits
    fraction: float = 0.0
    stop: threading.Event
    thread: threading.Thread | None = None
    found: Found | None = None
    trade: tuple[Found, ...] = ()
    stopped: bool = False
    fault: str = ""

    @property
    def running(self) -> bool:
        return self.thread is not None and self.thread.is_alive() and self.found is None and not self.fault


class SubSearches:
    """Searches by job."""

    def __init__(self) -> None:
        self._kept: dict[int, Searching] = {}

    def of(self, job_id: int) -> Searching | None:
        """The last one of a job."""
        return self._kept.get(job_id)

    def begin(self, job_id: int, field: BassField, limits: SearchLimits, *, rests_on: tuple) -> None:
        """Begin one; that which runs ends."""
        self.stop(job_id)
        search = Searching(rests_on=rests_on, limits=limits, stop=threading.Event())
        search.thread = threading.Thread(target=_run, args=(field, search), daemon=True, name="search of subs")
        self._kept[job_id] = search
        search.thread.start()

    def stop(self, job_id: int) -> None:
        """End it; the best until then is kept."""
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


def _run(field: BassField, search: Searching) -> None:
    def told(fraction: float) -> None:
        search.fraction = fraction

    try:
        found, trade = search_with_trade(field, search.limits, told=told, stopped=search.stop.is_set)
        search.stopped = search.stop.is_set()
        search.trade, search.found = trade, found
    except Exception as error:
        _LOG.exception("the search of subs failed")
        search.fault = f"The search failed: {error}"
