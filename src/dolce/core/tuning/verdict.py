"""The one verdict on a job, joined from everything that is known of its proof; pages, report and next line say it."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from dolce.core.tuning.proof import Objection

VerdictKind = Literal["not known", "not proven", "proven but", "proven"]
Needs = Literal["", "takes", "shape", "load", "round"]
LimitKind = Literal["one spot", "fewer spots", "moved meanwhile", "no line check", "lines to look at", "tolerances"]
SinceKind = Literal["moved", "processor", "correction"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Limit:
    """Something that the proof does not cover, though nothing speaks against it.

    Attributes
    ----------
    names : channels, spots or lines that it is about; the name of the set for "tolerances"
    count, of : how many of how many, where that is what is said
    asked_for : of "tolerances", how many lie outside because the target asks for it
    """

    kind: LimitKind
    names: tuple[str, ...] = ()
    count: int = 0
    of: int = 0
    asked_for: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Since:
    """What is otherwise than when the proof was taken; `names` are loudspeakers and spots that were moved."""

    kind: SinceKind
    names: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class ProofFacts:
    """What a verdict follows from.

    Attributes
    ----------
    needs : what is missing before anything can be said
    taken, wanted : cells of the board that the proving round has, and all
    sounding : whether takes of it are being made now
    objections : what speaks against it, from the curves
    spots, spots_wanted : at how many spots channels are compared, the fewest; and how many count
    moved_meanwhile : what stood at several places while a round was taken
    lines_wrong, lines_doubtful : channels whose line was found wrong, or to be looked at
    lines_checked : whether the line check was made
    outside, figures, tolerances : figures outside of a set of tolerances, all of them, and its name
    asked_for : how many of them lie outside where the target itself does
    moved_since : loudspeakers and spots that stand elsewhere now
    same_processor : whether the processor still does what it did while the proof was taken
    same_correction : whether filters and alignment are those that were proven
    measured_at : when the last take of the proving round was made
    """

    needs: Needs = ""
    taken: int = 0
    wanted: int = 0
    sounding: bool = False
    objections: tuple[Objection, ...] = ()
    spots: int = 0
    spots_wanted: int = 0
    moved_meanwhile: tuple[str, ...] = ()
    lines_wrong: tuple[str, ...] = ()
    lines_doubtful: tuple[str, ...] = ()
    lines_checked: bool = True
    outside: int = 0
    figures: int = 0
    tolerances: str = ""
    asked_for: int = 0
    moved_since: tuple[str, ...] = ()
    same_processor: bool = True
    same_correction: bool = True
    measured_at: datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class JobVerdict:
    """What can be said of a job.

    Attributes
    ----------
    needs : what is missing; "rest" where the proving round is not whole yet. Empty but for "not known"
    objections : what speaks against the proof, the weightiest first
    limits : what it does not cover
    since : what was changed since; then it *was* proven
    measured_at : when that was measured; None where it was not
    """

    kind: VerdictKind
    needs: Literal["", "takes", "shape", "load", "round", "rest"] = ""
    objections: tuple[Objection, ...] = ()
    limits: tuple[Limit, ...] = ()
    since: tuple[Since, ...] = ()
    measured_at: datetime | None = None

    @property
    def holds(self) -> bool:
        """Whether it can be handed over as it is: proven, with or without a limit, and nothing was changed since."""
        return self.kind in ("proven", "proven but") and not self.since


def verdict_of(facts: ProofFacts) -> JobVerdict:
    """The verdict.

    What is missing comes first: nothing is said of a round that is still being taken. What speaks against the proof
    outweighs all that it does not cover. What was changed afterwards does not undo what was measured, but is said with
    it.
    """
    if facts.needs:
        return JobVerdict(kind="not known", needs=facts.needs)
    if facts.sounding and facts.taken < facts.wanted:
        return JobVerdict(kind="not known", needs="rest")
    objections = facts.objections
    if facts.lines_wrong:
        objections = (Objection(kind="line wrong", channels=facts.lines_wrong), *objections)
    limits, since = tuple(_limits(facts)), tuple(_since(facts))
    if objections:
        return JobVerdict(
            kind="not proven", objections=objections, limits=limits, since=since, measured_at=facts.measured_at
        )
    kind: VerdictKind = "proven but" if limits else "proven"
    return JobVerdict(kind=kind, limits=limits, since=since, measured_at=facts.measured_at)


def _limits(facts: ProofFacts) -> Sequence[Limit]:
    found = []
    if facts.spots_wanted > facts.spots:
        found.append(Limit(kind="fewer spots", count=facts.spots, of=facts.spots_wanted))
    elif facts.spots == 1:
        found.append(Limit(kind="one spot", count=1, of=1))
    if facts.moved_meanwhile:
        found.append(Limit(kind="moved meanwhile", names=facts.moved_meanwhile))
    if not facts.lines_checked:
        found.append(Limit(kind="no line check"))
    elif facts.lines_doubtful:
        found.append(Limit(kind="lines to look at", names=facts.lines_doubtful))
    if facts.outside:
        names = (facts.tolerances,)
        found.append(
            Limit(kind="tolerances", names=names, count=facts.outside, of=facts.figures, asked_for=facts.asked_for)
        )
    return found


def _since(facts: ProofFacts) -> Sequence[Since]:
    found = []
    if facts.moved_since:
        found.append(Since(kind="moved", names=facts.moved_since))
    if not facts.same_correction:
        found.append(Since(kind="correction"))
    if not facts.same_processor:
        found.append(Since(kind="processor"))
    return found
