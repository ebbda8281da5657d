"""Rounds and takes."""

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.geometry import Point
from dolce.core.processor import ProcessorState
from dolce.core.response import Caution, Polarity, Quality
from dolce.core.signals import SignalKind
from dolce.errors import Conflict

TakeSource = Literal["rig", "file", "impulse", "moving", "curve"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Round:
    """Takes made while the system was in one known state; `state` is None until the first take.

    Attributes
    ----------
    bypassed, corrects : bool
        Whether takes were made with no preset, or through one of ours with bands or convolutions; neither before the
        first.
    """

    id: int
    name: str
    state: ProcessorState | None
    created_at: datetime
    bypassed: bool = False
    corrects: bool = False

    @property
    def held(self) -> ProcessorState:
        """What the processor held while its takes were made; Conflict before the first."""
        if self.state is None:
            raise Conflict(f"round {self.name} has no takes yet.", where="round", remedy="Take something first.")
        return self.state


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class TakeRecord:
    """One kept take without its samples.

    Attributes
    ----------
    level_db : ndarray, shape (points,)
        On the analysis grid, smoothed over 1/48 octave; 0 dB is the level of the stimulus.
    source : "rig", "file" (recorded elsewhere), "impulse" (response from a file), "moving" or "curve" (of text)
        The last two have a level over frequency, but no impulse response.
    arrival_known : bool
        False for recordings made elsewhere, whose delay counts from an unknown moment, and for moving averages.
    speaker_place, spot_place : Point or None
        Where speaker and microphone were by the plan of that moment; None for takes of old versions.
    recorder : str
        Of a recording from elsewhere: recorder and gain, as the person calls them; empty where not said.
    damaged : bool
        Whether the level is no longer what was kept: the disk has changed it.
    note : str
        What the person noted.
    left_out : str
        Why it is left out of all averages; empty where it counts.
    removed : bool
        Deleted, and can be brought back.
    signal : "sweep", "sequence" or "pink"
        What was played.
    sounded : tuple of str
        Channels that sounded at once; empty for the one whose row it is.
    repeats, repeats_db : int, float or None
        How many recordings are averaged in it, and by how much they differ.
    level_dbfs : float or None
        How loud it was played; None where not known.
    """

    id: int
    round_id: int
    channel: str
    spot_id: int
    attempt: int
    taken_at: datetime
    source: TakeSource
    sample_rate_hz: int
    arrival_s: float
    arrival_known: bool
    polarity: Polarity
    quality: Quality
    cautions: tuple[Caution, ...]
    level_db: NDArray[np.float64]
    speaker_place: Point | None = None
    spot_place: Point | None = None
    damaged: bool = False
    recorder: str = ""
    note: str = ""
    left_out: str = ""
    removed: bool = False
    signal: SignalKind = "sweep"
    sounded: tuple[str, ...] = ()
    repeats: int = 1
    repeats_db: float | None = None
    level_dbfs: float | None = None

    @property
    def has_response(self) -> bool:
        """Whether it has an impulse response: phase, time and decay."""
        return self.source not in ("moving", "curve")

    @property
    def tells_noise(self) -> bool:
        """Whether it was heard as a test signal: responses and curves from files tell neither noise nor peak."""
        return self.source not in ("impulse", "curve")

    @property
    def level_group(self) -> str | None:
        """Takes whose levels can be held against each other have one name; None for one that stands alone.

        All that the rig took is one group, since its gains are known. Recordings from elsewhere have gains of their
        own: those that the person says were made with one recorder at one gain are a group.
        """
        if self.source in ("rig", "moving"):
            return "rig"
        return f"recorded with {self.recorder}" if self.recorder else None

    @property
    def word(self) -> Literal["clean", "noisy", "clipped", "damaged", "left out"]:
        """One word for the board."""
        return "damaged" if self.damaged else "left out" if self.left_out else self.quality.word

    @property
    def usable(self) -> bool:
        """Whether averages and corrections may use it."""
        return self.quality.usable and not self.damaged and not self.left_out

    @property
    def settled(self) -> bool:
        """Whether its cell asks for nothing more: it is usable, or was left out on purpose."""
        return self.usable or (bool(self.left_out) and not self.damaged)
