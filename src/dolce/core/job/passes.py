"""What a pass over the board takes, in which order, and how long it waits for the person."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

from dolce.core.checked import limited, ranges
from dolce.core.job.model import Job
from dolce.core.job.placements import placement_of
from dolce.errors import InvalidValue

Order = Literal["spot", "channel"]
Step = tuple[str, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class PassWish:
    """What to take.

    Attributes
    ----------
    channels, spots : tuple
        Rows and columns (ids of spots) of the board; empty for all.
    taken_too : bool
        Also cells that ask for nothing more.
    order : "spot" (the microphone moves least) or "channel"
    wait_s : float
        Before each new place of the microphone, so that the person can walk away.
    repeats : int
        How often a spoiled take is repeated by itself.
    """

    channels: tuple[str, ...] = ()
    spots: tuple[int, ...] = ()
    taken_too: bool = False
    order: Order = "spot"
    wait_s: float = limited(0, 60, where="wait", unit="s", default=0.0)
    repeats: int = limited(0, 5, where="repeats of spoiled takes", whole=True, default=0)

    def __post_init__(self) -> None:
        ranges(self)
        if self.order not in ("spot", "channel"):
            raise InvalidValue(f"order {self.order[:20]!r}.", where="order", remedy="Choose one of the list.")


def steps_of(job: Job, wish: PassWish, settled: Callable[[str, int], bool]) -> list[Step]:
    """Channels at placements (by their leading spot), in order; `settled` says which cells ask for nothing more.

    With several microphones a placement serves several spots: it is taken where one of them lacks something.

    Raises
    ------
    NotFound
        If there is no such channel or spot.
    """
    channels = [job.speaker(channel).channel for channel in wish.channels] or list(job.channels)
    channels.sort(key=job.channels.index)
    wanted = {job.spot(spot).id for spot in wish.spots} or {spot.id for spot in job.spots}
    placements = list(dict.fromkeys(tuple(placement_of(job, s.id)) for s in job.spots if s.id in wanted))

    def lacks(channel: str, placement: Sequence[int]) -> bool:
        return wish.taken_too or not all(settled(channel, spot) for spot in placement if spot in wanted)

    if wish.order == "spot":
        return [(c, p[0]) for p in placements for c in channels if lacks(c, p)]
    return [(c, p[0]) for c in channels for p in placements if lacks(c, p)]


def waits_of(steps: Sequence[Step], wait_s: float) -> list[float]:
    """Seconds before each step: where the microphone has moved, and before the first."""
    moved = [True, *(before[1] != after[1] for before, after in pairwise(steps))]
    return [wait_s if one else 0.0 for one in moved[:len(steps)]]
