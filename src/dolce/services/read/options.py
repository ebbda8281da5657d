"""What somebody wants to read: channels, places and rounds, against what, and how. The address holds all of it."""

import re
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.reading import CYCLES, GATE_MS
from dolce.core.response import ANALYSIS_GRID_HZ, auditory, finer_below
from dolce.errors import InvalidValue

View = Literal[
    "level", "seats", "phase", "delay", "impulse", "step", "energy", "slices", "map", "times", "distortion", "noise"
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
_PLACE = re.compile(r"(?:(seat)-(\d{1,9})|(spot)-(\d{1,9}))?", re.ASCII)


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
    against_round, against_place, against_channel
        What it is held against; None or empty for the same. Nothing is held against it where all three are.
    against_job : int or None
        Another job, whose round it is held against; None for this one.
    level_hz : float
        Where curves are laid over each other, for `levelled` "at".
    """

    round_id: int | None = None
    channels: tuple[str, ...] = ()
    place: Place = Place()
    front: str = ""
    against_round: int | None = None
    against_place: Place | None = None
    against_channel: str = ""
    against_job: int | None = None
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

    @property
    def compares(self) -> bool:
        return bool(
            self.against_round is not None or self.against_place is not None or self.against_channel or self.against_job
        )

    @property
    def averaged(self) -> bool:
        """Whether views of single takes show their mean over the place instead."""
        return self.over == "average" and self.of_one_take

    @property
    def of_one_take(self) -> bool:
        """Whether it shows something of single takes, not the levels that are averaged over spots."""
        return self.view not in ("level", "seats") or (self.view == "level" and self.window != "whole")

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
            case "seats" | "energy" | "slices" | "times" | "distortion" | "noise":
                return (self.view,)

    @property
    def per_octave(self) -> float | NDArray | None:
        return SMOOTHINGS[self.smoothing]

    @property
    def delay_per_octave(self) -> NDArray:
        """Width for delays, which need one: 1/48 octave where levels have none."""
        width = self.per_octave
        return np.broadcast_to(48.0 if width is None else width, ANALYSIS_GRID_HZ.shape)
