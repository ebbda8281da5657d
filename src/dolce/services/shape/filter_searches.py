"""Searches for filters: one a job, each in a thread of its own, reported on, stopped, and kept until the next."""

from collections.abc import Callable
from functools import partial

from dolce.services.searches import Report, ReportedSearch, Searches, Stopped

__all__ = ["FilterSearch", "FilterSearches", "Report", "Stopped"]

FilterSearch = ReportedSearch


class FilterSearches(Searches[FilterSearch]):
    """Searches by job; a stopped one leaves the filters as they were."""

    def look_for(self, job_id: int, work: Callable[[Report], None], *, asked: object) -> None:
        """Begin one; that which runs ends first, unless it is for the same."""
        search = FilterSearch()
        self.begin(job_id, search, partial(search.run, work), name="search of filters", asked=asked)

    def keep(self, job_id: int) -> None:
        """That a search that was waited for is done."""
        self._kept[job_id] = FilterSearch(done=True, fraction=1.0)
