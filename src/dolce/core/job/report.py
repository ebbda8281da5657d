"""What a calibrator says in the report of a job, and which parts of it are told."""

from dataclasses import dataclass

from dolce.core import checked
from dolce.errors import InvalidValue

PARTS = {
    "room": "Room and placing",
    "found": "What was found",
    "done": "What was done",
    "result": "Before and after",
    "left": "What was left alone, and why",
    "further": "What would help further",
    "use": "Settings, and how to use them",
    "log": "Day by day",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportWords:
    """The calibrator's own part.

    Attributes
    ----------
    by : name of the calibrator
    words : what they say at the beginning
    left_out : parts that are not told
    paper : "A4" or "Letter"
    tolerances : name of the set of tolerances that verdict and report hold the room against; empty for the first
    """

    by: str = ""
    words: str = ""
    left_out: tuple[str, ...] = ()
    paper: str = "A4"
    tolerances: str = ""

    def __post_init__(self) -> None:
        checked.text(self.by, longest=120, where="by")
        checked.text(self.words, longest=4000, where="words")
        checked.text(self.tolerances, longest=80, where="tolerances")
        if not set(self.left_out) <= set(PARTS):
            raise InvalidValue(f"parts {self.left_out}.", where="parts", remedy="Choose some of the list.")
        if self.paper not in ("A4", "Letter"):
            raise InvalidValue(f"paper {self.paper[:20]!r}.", where="paper", remedy="Choose A4 or Letter.")
