"""What somebody wants to read: channels, places and rounds, beside what, and how. The address holds all of it."""

import re
from dataclasses import dataclass, replace
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.reading import CYCLES, EARLY_DB, EARLY_MS, GATE_MS
from dolce.core.response import ANALYSIS_GRID_HZ, auditory, finer_below
from dolce.errors import InvalidValue

View = Literal[
    "level",
    "seats",
    "phase",
    "delay",
    "impulse",
    "step",
    "early",
    "energy",
    "slices",
    "map",
    "times",
    "distortion",
    "noise",
]
Window = Literal["whole", "direct", "cycles"]
Levelled = Literal["as measured", "at", "band"]
Layout = Literal["one", "each"]
Over = Literal["one take", "average"]
PhaseKind = Literal["wrapped", "unwrapped", "minimum", "excess"]
MapKind = Literal["cycles", "time"]

SMOOTHINGS: dict[str, float | NDArray | None] = {
    "none": None,
    "1/48": 48,
    "1/24": 24,
    "1/12": 12,
    "1/6": 6,
    "1/3": 3,
    "finer below": finer_below(ANALYSIS_GRID_HZ),
    "auditory": auditory(ANALYSIS_GRID_HZ),
}
MOST_COMPARED = 23  # beside the one that was chosen first
_PLACE = re.compile(r"(?:(seat)-(\d{1,9})|(spot)-(\d{1,9}))?", re.ASCII)
_COMPARED = re.compile(
    r"(?:job-(?P<job>\d{1,9}) )?(?:round-(?P<round>\d{1,9}) )?(?:at-(?P<at>[a-z]*-?\d*) )?"
    r"(?:ch-(?P<channel>\w{1,40}) )?(?P<off>off )?",
    re.ASCII,
)


@dataclass(frozen=True, slots=True)
class Place:
    """All spots of seats (neither is said), the spots of one seat, or one spot."""

    seat: int | None = None
    spot: int | None = None

    @classmethod
    def of(cls, text: str) -> "Place":
        """From "", "seat-3" or "spot-12"."""
        found = _PLACE.fullmatch(text)
        if found is None:
            raise InvalidValue(f"place {text[:20]!r}.", where="place", remedy="Choose one of the list.")
        return cls(seat=int(found[2]) if found[1] else None, spot=int(found[4]) if found[3] else None)

    def __str__(self) -> str:
        return f"seat-{self.seat}" if self.seat else f"spot-{self.spot}" if self.spot else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """A curve beside the one that was chosen first; what is None or empty is as of that one.

    Attributes
    ----------
    job_id : int or None
        Another job; None for this one.
    shown : bool
        Whether it is drawn; else it only stands in the list.
    """

    job_id: int | None = None
    round_id: int | None = None
    place: Place | None = None
    channel: str = ""
    shown: bool = True

    @classmethod
    def of(cls, text: str) -> "Compared":
        """From words such as "round-3 at-seat-2 ch-L off"; "at-" is all seats.

        Raises
        ------
        InvalidValue
            If the words are not of this kind.
        """
        found = _COMPARED.fullmatch(f"{text} " if text else "")
        if found is None:
            raise InvalidValue(
                f"curve {text[:40]!r}.", where="curves in the picture", remedy="Add it from the lists again."
            )
        return cls(
            job_id=int(found["job"]) if found["job"] else None,
            round_id=int(found["round"]) if found["round"] else None,
            place=None if found["at"] is None else Place.of(found["at"]),
            channel=found["channel"] or "",
            shown=found["off"] is None,
        )

    def __str__(self) -> str:
        return " ".join(
            word
            for word, said in (
                (f"job-{self.job_id}", self.job_id),
                (f"round-{self.round_id}", self.round_id),
                (f"at-{self.place}", self.place is not None),
                (f"ch-{self.channel}", self.channel),
                ("off", not self.shown),
            )
            if said
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadOptions:
    """What to look at.

    Attributes
    ----------
    round_id : int or None
        None for the present round.
    channels : tuple of str
        Empty for all.
    front : str
        The channel in front; empty for the first.
    compared : tuple of Compared
        What is in the picture beside it, in their order.
    difference_to : int or None
        Which of them differences are taken to: 0 is the one chosen first, 1 the first beside it; None for none.
    level_hz : float
        Where curves are laid over each other, for `levelled` "at".
    """

    round_id: int | None = None
    channels: tuple[str, ...] = ()
    place: Place = Place()
    front: str = ""
    compared: tuple[Compared, ...] = ()
    difference_to: int | None = 1
    view: View = "level"
    over: Over = "one take"
    layout: Layout = "one"
    smoothing: str = "1/12"
    window: Window = "whole"
    gate_ms: float = limited(*GATE_MS, where="gate", unit="ms", default=5.0)
    cycles: float = limited(*CYCLES, where="cycles", default=6.0)
    levelled: Levelled = "as measured"
    level_hz: float = limited(20, 20_000, where="level at", unit="Hz", default=1000.0)
    phase: PhaseKind = "wrapped"
    map_kind: MapKind = "cycles"
    map_cycles: float = limited(2, 60, where="cycles of the map", default=12.0)
    early_ms: float = limited(1, 30, where="reflections within", unit="ms", default=EARLY_MS)
    early_db: float = limited(-30, 0, where="reflections below", unit="dB", default=EARLY_DB)
    map_ms: float = limited(5, 500, where="window of the map", unit="ms", default=100.0)

    def __post_init__(self) -> None:
        ranges(self)
        for name, kind in (
            ("view", View),
            ("window", Window),
            ("levelled", Levelled),
            ("layout", Layout),
            ("phase", PhaseKind),
            ("map_kind", MapKind),
            ("over", Over),
        ):
            if getattr(self, name) not in get_args(kind):
                raise InvalidValue(
                    f"{name} {str(getattr(self, name))[:20]!r}.",
                    where=name,
                    remedy=f"Choose {', '.join(get_args(kind))}.",
                )
        if self.smoothing not in SMOOTHINGS:
            raise InvalidValue(
                f"smoothing {self.smoothing[:20]!r}.", where="smoothing", remedy=f"Choose {', '.join(SMOOTHINGS)}."
            )
        if len(self.compared) > MOST_COMPARED:
            raise InvalidValue(
                f"{len(self.compared) + 1} curves in one picture.",
                where="curves in the picture",
                remedy=f"Remove some: {MOST_COMPARED + 1} are the most.",
            )

    def beside(self, *more: Compared) -> "ReadOptions":
        """With more curves in the picture; those that are there stay as they are."""
        there = {replace(one, shown=True) for one in self.compared}
        return replace(self, compared=(*self.compared, *(one for one in dict.fromkeys(more) if one not in there)))

    def without(self, number: int) -> "ReadOptions":
        """Without a curve beside, 0 for the first of these; differences stay to the same one, or are to the first."""
        to = self.difference_to
        if to is not None and to > number:
            to = 1 if to == number + 1 else to - 1
        return replace(self, compared=self.compared[:number] + self.compared[number + 1 :], difference_to=to)

    def turned(self, number: int) -> "ReadOptions":
        """A curve beside drawn, or no longer."""
        one = self.compared[number]
        return replace(
            self, compared=(*self.compared[:number], replace(one, shown=not one.shown), *self.compared[number + 1 :])
        )

    def earlier(self, number: int) -> "ReadOptions":
        """A curve beside exchanged with the one before it; differences stay to the same one."""
        order = list(self.compared)
        order[number - 1], order[number] = order[number], order[number - 1]
        to = {number: number + 1, number + 1: number}.get(self.difference_to or 0, self.difference_to)
        return replace(self, compared=tuple(order), difference_to=to)

    @property
    def averaged(self) -> bool:
        """Whether views of single takes show their mean over the place instead."""
        return self.over == "average" and self.of_one_take

    @property
    def of_one_take(self) -> bool:
        """Whether it shows something of single takes, not the levels that are averaged over spots."""
        return self.view not in ("level", "seats", "early") or (self.view == "level" and self.window != "whole")

    @property
    def of_take(self) -> tuple:
        """What of it changes what is found of a single take, so that the rest may change without finding it again."""
        match self.view:
            case "map":
                return self.view, self.map_kind, self.map_cycles if self.map_kind == "cycles" else self.map_ms
            case "level":
                return self.view, self.window, self.gate_ms, self.cycles, self.smoothing
            case "delay":
                return self.view, self.window, self.gate_ms, self.smoothing
            case "phase" | "impulse" | "step":
                return self.view, self.window, self.gate_ms
            case "seats" | "early" | "energy" | "slices" | "times" | "distortion" | "noise":
                return (self.view,)

    @property
    def per_octave(self) -> float | NDArray | None:
        return SMOOTHINGS[self.smoothing]

    @property
    def delay_per_octave(self) -> NDArray:
        """Width for delays, which need one: 1/48 octave where levels have none."""
        width = self.per_octave
        return np.broadcast_to(48.0 if width is None else width, ANALYSIS_GRID_HZ.shape)
