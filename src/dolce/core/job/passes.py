"""What a pass over the board takes, in which order, and how long it waits for the person."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from dolce.core.checked import limited, ranges
from dolce.core.job.job import Job
from dolce.core.job.placements import placement_of
from dolce.core.signals import SIGNAL_KINDS, SignalKind
from dolce.errors import InvalidValue

Order = Literal["spot", "channel"]
Step = tuple[str, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class PassOptions:
    """What to take.

    Attributes
    ----------
    channels, spots : tuple
        Rows (by code) and columns (ids of spots) of the board; empty for all.
    taken_too : bool
        Also cells that ask for nothing more.
    order : "spot" (the microphone moves least) or "channel"
    wait_s : float
        Before each new place of the microphone, so that the person can walk away.
    repeats : int
        How often a spoiled take is repeated by itself.
    signal : "sweep", "sequence" or "pink"
    attenuation_db : float
        Against the row's own level, for a take that only checks another; below 0 for louder.
    """

    channels: tuple[str, ...] = ()
    spots: tuple[int, ...] = ()
    taken_too: bool = False
    order: Order = "spot"
    wait_s: float = limited(0, 60, where="wait", unit="s", default=0.0)
    signal: SignalKind = "sweep"
    attenuation_db: float = limited(-40, 40, where="softer", unit="dB", default=0.0)
    repeats: int = limited(0, 5, where="repeats of spoiled takes", whole=True, default=0)

    def __post_init__(self) -> None:
        ranges(self)
        if self.order not in ("spot", "channel"):
            raise InvalidValue(f"order {self.order[:20]!r}.", where="order", remedy="Choose one of the list.")
        if self.signal not in SIGNAL_KINDS:
            raise InvalidValue(
                f"test signal {self.signal[:20]!r}.", where="test signal", remedy="Choose one of the list."
            )


def steps_of(job: Job, options: PassOptions, settled: Callable[[str, int], bool]) -> list[Step]:
    """Rows at placements (by their leading spot), in order; `settled` says which cells ask for nothing more.

    With several microphones a placement serves several spots: it is taken where one of them lacks something.

    Raises
    ------
    NotFound
        If there is no such row or spot.
    """
    rows = [feed.code for feed in job.feeds]
    channels = sorted({job.feed(code).code for code in options.channels}, key=rows.index) or rows
    asked = set(job.asked)
    wanted = {job.spot(spot).id for spot in options.spots} or {spot.id for spot in job.spots}
    placements = list(dict.fromkeys(tuple(placement_of(job, s.id)) for s in job.spots if s.id in wanted))

    def lacks(channel: str, placement: Sequence[int]) -> bool:
        here = [spot for spot in placement if spot in wanted and (channel, spot) in asked]
        return any(options.taken_too or not settled(channel, spot) for spot in here)

    if options.order == "spot":
        return [(c, p[0]) for p in placements for c in channels if lacks(c, p)]
    return [(c, p[0]) for c in channels for p in placements if lacks(c, p)]


def waits_of(steps: Sequence[Step], wait_s: float) -> list[float]:
    """Seconds before each step: where the microphone has moved, and before the first."""
    moved = [True, *(before[1] != after[1] for before, after in pairwise(steps))]
    return [wait_s if sounded else 0.0 for sounded in moved[: len(steps)]]
