"""Searches for settings of subs: one a job, each in a thread of its own, told of, stopped, and kept until the next."""

import logging
import threading
from dataclasses import dataclass

from dolce.core.subs import BassField, Found, SearchLimits, search_with_front
from dolce.services.searches import Searches

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
    pareto_front: tuple[Found, ...] = ()
    stopped: bool = False
    fault: str = ""

    @property
    def running(self) -> bool:
        return self.thread is not None and self.thread.is_alive() and self.found is None and not self.fault


class SubSearches(Searches[Searching]):
    """Searches by job; a stopped one keeps the best until then."""

    def look_for(self, job_id: int, field: BassField, limits: SearchLimits, *, rests_on: tuple) -> None:
        """Begin one; that which runs ends, for whoever presses begins anew."""
        search = Searching(rests_on=rests_on, limits=limits, stop=threading.Event())
        self.start(
            job_id,
            search,
            threading.Thread(target=_run, args=(field, search), daemon=True, name="search of subs"),
            asked=object(),
        )


def _run(field: BassField, search: Searching) -> None:
    def on_progress(fraction: float) -> None:
        search.fraction = fraction

    try:
        found, pareto_front = search_with_front(
            field, search.limits, on_progress=on_progress, stopped=search.stop.is_set
        )
        search.stopped = search.stop.is_set()
        search.pareto_front, search.found = pareto_front, found
    except Exception as error:
        _LOG.exception("the search of subs failed")
        search.fault = f"The search failed: {error}"
