"""Searches for filters: one a job, each in a thread of its own, told of, stopped, and kept until the next."""

import logging
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from dolce.errors import DolceError
from dolce.services.searches import Searches

_LOG = logging.getLogger(__name__)
Told = Callable[[float], None]
Fewer = Mapping[str, tuple[tuple[int, float], ...]]


class Stopped(Exception):
    """Somebody stopped a search: nothing of it is kept."""


@dataclass(slots=True, kw_only=True)
class FilterSearch:
    """A search for one job: how far it is, and what came of it besides filters."""

    fraction: float = 0.0
    stop: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None
    done: bool = False
    stopped: bool = False
    fault: str = ""
    fewer: Fewer = field(default_factory=dict)

    @property
    def running(self) -> bool:
        return not self.done

    def told(self, fraction: float) -> None:
        """How far it is; Stopped where somebody stopped it."""
        self.fraction = fraction
        if self.stop.is_set():
            raise Stopped


class FilterSearches(Searches[FilterSearch]):
    """Searches by job; a stopped one leaves the filters as they were."""

    def begin(self, job_id: int, work: Callable[[Told], Fewer]) -> None:
        """Begin one; that which runs ends first."""
        search = FilterSearch()
        self.start(job_id, search, threading.Thread(
            target=_run, args=(work, search), daemon=True, name="search of filters"))

    def keep(self, job_id: int, fewer: Fewer) -> None:
        """What a search that was waited for has found."""
        self._kept[job_id] = FilterSearch(done=True, fraction=1.0, fewer=fewer)


def _run(work: Callable[[Told], Fewer], search: FilterSearch) -> None:
    try:
        search.fewer = work(search.told)
    except Stopped:
        search.stopped = True
    except DolceError as error:
        search.fault = str(error)
    except Exception as error:
        _LOG.exception("the search of filters failed")
        search.fault = f"The search failed: {error}"
    search.done = True
