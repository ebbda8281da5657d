"""What to do next in a job: from an empty one to its report, one step at a time. It advises and never blocks."""

from dataclasses import dataclass
from typing import Literal

StepKey = Literal[
    "sounding",
    "spots",
    "microphone",
    "level",
    "level clips",
    "neutral",
    "lines",
    "lines heard",
    "lines wrong",
    "noise",
    "take",
    "outliers",
    "align",
    "subs",
    "crossovers",
    "filters",
    "filters again",
    "load",
    "play",
    "round",
    "prove",
]


LinesState = Literal["none", "heard", "wrong", "done"]


@dataclass(frozen=True, slots=True, kw_only=True)
class JobFacts:
    """What the next step follows from.

    Attributes
    ----------
    sounding : whether a pass runs in this job now
    microphone : what is wrong with it ("no microphone", "no curve" ...); empty where its curve goes into the takes
    level_checked : whether the level was checked and nothing it depends on has changed
    clips : whether a channel came too near to clipping then
    lines : how far the line check is; "heard" where nobody has said yet from where they sounded
    noise_known : whether the quiet room was listened to
    outliers : takes of the round that do not fit the others
    bypassed, corrects : what the processor does now: nothing; correct
    unread : points of the chain that nobody has said to be neutral, where it can't be read
    begun, fits : whether the present round holds a take; whether those were made in the present state of the processor
    taken, wanted : cells of the present round's board that are done, and all
    through : whether the present round is one through a correction
    base_full : whether a round of the untouched system has every cell
    has_base : whether it has any
    aligned, filters : whether levels and delays are chosen, or there is one channel alone; whether there are filters
    moved_on : whether levels and delays were changed since the filters were found
    subs, subs_one, crossed : how many there are; whether they are one; whether channels hand their bass over to them
    loaded : letter of a preset that corrects with the present filters; empty for none
    """

    sounding: bool = False
    spots: int = 0
    microphone: str = ""
    level_checked: bool = False
    clips: bool = False
    lines: LinesState = "done"
    noise_known: bool = True
    outliers: int = 0
    bypassed: bool = True
    corrects: bool = False
    unread: int = 0
    begun: bool = False
    fits: bool = True
    taken: int = 0
    wanted: int = 0
    through: bool = False
    base_full: bool = False
    has_base: bool = False
    aligned: bool = False
    filters: bool = False
    moved_on: bool = False
    subs: int = 0
    subs_one: bool = False
    crossed: bool = False
    loaded: str = ""

    @property
    def open_round(self) -> bool:
        """Whether takes made now would belong to the present round, and some of it are missing."""
        return self.fits and self.taken < self.wanted


def next_step(facts: JobFacts) -> StepKey:
    """The first thing that is missing on the way."""
    if facts.sounding:
        return "sounding"
    if not facts.spots:
        return "spots"
    return _before_takes(facts) or _from_takes(facts)


def _before_takes(facts: JobFacts) -> StepKey | None:
    """What belongs before the first take; nobody is told later."""
    if facts.has_base:
        return None
    if facts.microphone:
        return "microphone"
    if not facts.bypassed or facts.unread:
        return "neutral"  # before anything sounds: a preset would be heard in the level and in every line
    if not facts.level_checked:
        return "level"
    if facts.clips:
        return "level clips"
    match facts.lines:
        case "none":
            return "lines"
        case "heard":
            return "lines heard"
        case "wrong":
            return "lines wrong"
        case "done":
            return None if facts.noise_known else "noise"


def _from_takes(facts: JobFacts) -> StepKey:
    # A round that was begun is finished before anything else, in whatever state it is taken.
    if not facts.base_full or (facts.begun and facts.open_round):
        if facts.open_round:
            return "take"
        return "round" if facts.bypassed else "neutral"
    if not facts.aligned:
        return "outliers" if facts.outliers else "align"
    if facts.subs > 1 and not facts.subs_one:
        return "subs"
    if facts.subs and not facts.crossed:
        return "crossovers"
    if not facts.filters:
        return "filters"
    if facts.moved_on:
        return "filters again"
    if not facts.loaded:
        return "load"
    if not facts.corrects:
        # Whoever looks at a round that was taken through it has been there.
        return "prove" if facts.through and facts.taken == facts.wanted else "play"
    if facts.open_round:
        return "take"
    return "prove" if facts.through and facts.fits and facts.taken == facts.wanted else "round"


RigSheet = Literal[
    "setup", "microphones", "processor", "level", "noise", "lines", "reference", "subs", "meter", "spectrum", "faults"
]


def needed_sheets(*, simulated: bool, processor_readable: bool) -> tuple[RigSheet, ...]:
    """Which sheets of the Rig a job needs; the others are extras.

    Four for every job: what is played on, with what it is heard, how loud, and whether each line is what it should be.
    The processor where nobody can read whether it is neutral.
    """
    needed: list[RigSheet] = ["setup", "microphones"]
    if not simulated and not processor_readable:
        needed.append("processor")
    return (*needed, "level", "lines")
