"""What geometry alone already tells about a plan."""

from dataclasses import dataclass

from dolce.core.room.findings.model import MATTERS, Finding
from dolce.core.room.findings.placing import placing_findings
from dolce.core.room.findings.resonances import mode_findings
from dolce.core.room.findings.walls import cancellation_weights, wall_findings
from dolce.core.room.plan import Dismissal, RoomPlan
from dolce.core.room.sights import sights_of

__all__ = ["MATTERS", "Finding", "Findings", "cancellation_weights", "findings_of"]

MOST_FIRST = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class Findings:
    """What was found, the heaviest first.

    Attributes
    ----------
    open : findings that stand
    dismissed : findings set aside, each with its dismissal
    returned : dismissals, by key, whose evidence has changed since; their findings stand again
    """

    open: tuple[Finding, ...]
    dismissed: tuple[tuple[Finding, Dismissal], ...]
    returned: dict[str, Dismissal]

    @property
    def first(self) -> tuple[Finding, ...]:
        """The heaviest, at most as many as one reads through."""
        return tuple(f for f in self.open if f.matters)[:MOST_FIRST]

    @property
    def small(self) -> tuple[Finding, ...]:
        return self.open[len(self.first) :]


def findings_of(plan: RoomPlan) -> Findings:
    """All findings of a plan, sorted by weight, with those dismissed apart."""
    found = [*placing_findings(plan, sights_of(plan)), *wall_findings(plan), *mode_findings(plan)]
    found.sort(key=lambda f: (-f.weight, f.key))
    by_key = {d.key: d for d in plan.dismissed}
    standing, dismissed, returned = [], [], {}
    for finding in found:
        known = by_key.get(finding.key)
        if known is not None and known.evidence == finding.evidence:
            dismissed.append((finding, known))
            continue
        if known is not None:
            returned[finding.key] = known
        standing.append(finding)
    return Findings(open=tuple(standing), dismissed=tuple(dismissed), returned=returned)
