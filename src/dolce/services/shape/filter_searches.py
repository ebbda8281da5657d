"""Searches for filters: one a job, each in a thread of its own, told of, stopped, and kept until the next."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from dolce.services.searches import Searches, Stopped, Told, ToldSearch

__all__ = ["Fewer", "FilterSearch", "FilterSearches", "Stopped", "Told"]

Fewer = Mapping[str, tuple[tuple[int, float], ...]]


@dataclass(slots=True, kw_only=True)
class FilterSearch(ToldSearch):
    """A search for one job: what came of it besides filters."""

    fewer: Fewer = field(default_factory=dict)


class FilterSearches(Searches[FilterSearch]):
    """Searches by job; a stopped one leaves the filters as they were."""

    def look_for(self, job_id: int, work: Callable[[Told], Fewer]) -> None:
        """Begin one; that which runs ends first."""
        search = FilterSearch()

        def task(told: Told) -> None:
            search.fewer = work(told)

        self.begin(job_id, search, task, name="search of filters")

    def keep(self, job_id: int, fewer: Fewer) -> None:
        """What a search that was waited for has found."""
        self._kept[job_id] = FilterSearch(done=True, fraction=1.0, fewer=fewer)
