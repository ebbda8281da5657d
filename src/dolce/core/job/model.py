"""Value objects of one calibration of one room."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from string import ascii_uppercase
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.geometry import Point, RoomSize
from dolce.core.job.feeds import Feed, Rows
from dolce.core.job.results import PassResult, Result, result_as
from dolce.core.job.rig import Rig
from dolce.core.processor import ProcessorLimits, ProcessorState
from dolce.core.response import Caution, Polarity, Quality
from dolce.core.rig import Ceiling
from dolce.core.room import RoomPlan, Seat, Speaker, Spot
from dolce.core.signals import SignalKind
from dolce.errors import Conflict, NotFound

Units = Literal["metres", "feet"]
UNITS: tuple[Units, ...] = ("metres", "feet")
TakeSource = Literal["rig", "file", "impulse", "moving", "curve"]
PassKind = Literal["takes", "level", "lines", "noise", "loop", "compare", "live", "reference", "subs", "listen"]
PassState = Literal["running", "done", "stopped", "failed", "interrupted"]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Job:
    """One calibration of one room, without its takes.

    Attributes
    ----------
    processor : ProcessorState
        What the processor that Dolce loads held when it was last read, or when the person last said so.
    simulated : ProcessorState
        What the rehearsal's processor really holds.
    rows : Rows
        What is taken besides the channels one by one, and how.
    follows : int or None
        The job whose room, seats and spots this one has, until they are changed here.
    """

    id: int
    name: str
    place: str
    notes: str
    units: Units
    created_at: datetime
    changed_at: datetime
    seed: int
    plan: RoomPlan
    rig: Rig
    processor: ProcessorState
    simulated: ProcessorState
    round_id: int
    rows: Rows = field(default_factory=Rows)
    follows: int | None = None

    @property
    def room(self) -> RoomSize:
        return self.plan.size

    @property
    def speakers(self) -> tuple[Speaker, ...]:
        return self.plan.speakers

    @property
    def channels(self) -> tuple[str, ...]:
        return self.plan.channels

    @property
    def seat(self) -> Seat:
        """The main seat."""
        return self.plan.main_seat

    @property
    def spots(self) -> tuple[Spot, ...]:
        return self.plan.spots

    @property
    def limits(self) -> ProcessorLimits | None:
        """What the processor that Dolce loads can do; None where it isn't known."""
        return self.rig.limits

    @property
    def slots(self) -> tuple[str, ...]:
        """Letters of the presets that the processor has; two where its limits are not known."""
        return tuple(ascii_uppercase[: self.limits.presets if self.limits else 2])

    @property
    def ceiling(self) -> Ceiling:
        """What no test sound exceeds in this room."""
        return self.ceiling_at(None)

    def ceiling_at(self, distance_m: float | None) -> Ceiling:
        """The same for a microphone so close to a speaker."""
        return self.rig.levels.ceiling_in(self.room.volume_m3, distance_m=distance_m)

    @property
    def main_spots(self) -> tuple[Spot, ...]:
        """The spots of the main seat."""
        return self.plan.spots_of(self.plan.main_seat.id)

    def speaker(self, channel: str) -> Speaker:
        """The speaker of a channel code, or NotFound."""
        return self.plan.speaker(channel)

    def spot(self, spot_id: int) -> Spot:
        """The spot of an id, or NotFound."""
        return self.plan.spot(spot_id)

    @property
    def first_spot(self) -> Spot:
        """Where checks with one microphone are made: the main seat's centre, or the first spot of the walk.

        Raises
        ------
        Conflict
            If there is no spot.
        """
        spot = self.plan.centre_spot or next(iter(self.spots), None)
        if spot is None:
            raise Conflict(
                "there is no spot for the microphone.", where="spots", remedy="Lay out spots in the Room stop first."
            )
        return spot

    @property
    def feeds(self) -> tuple[Feed, ...]:
        """The rows of the board."""
        return self.rows.feeds(self.plan)

    def feed(self, code: str) -> Feed:
        """The row of a code, or NotFound."""
        found = next((feed for feed in self.feeds if feed.code == code), None)
        if found is None:
            raise NotFound(
                f"there is no row {code[:60]!r}.",
                where="takes",
                remedy=f"Use one of {', '.join(feed.label for feed in self.feeds)}.",
            )
        return found

    @property
    def sync_channel(self) -> str:
        """The speaker that plays the sync chirp, where what records has a clock of its own."""
        chosen = self.rig.interface.sync_channel
        if chosen in self.channels:
            return chosen
        return next((s.channel for s in self.speakers if not s.is_sub), self.channels[0])

    def routed(self, channels: Sequence[str]) -> tuple[tuple[str, ...], tuple[str, ...]]:
        """Which channels to feed so that all of some sound, and all that sound then.

        Where the processor sends a channel's bass to subs, those are not fed besides it.
        """
        reached = {channel: tuple(route.output for route in self.processor.routes(channel)) for channel in channels}
        fed = tuple(c for c in channels if not any(c in sounding for other, sounding in reached.items() if other != c))
        sounding = {code for channel in fed for code in reached[channel]}
        return fed, tuple(c for c in self.channels if c in sounding)

    @property
    def asked(self) -> tuple[tuple[str, int], ...]:
        """The cells that the board asks for, by code and spot id, row by row.

        A spot close to a speaker is for that speaker alone; a row for which one spot is enough asks for the main seat's
        centre.
        """
        if not self.spots:
            return ()
        first_id = self.first_spot.id
        places = [(spot.id, spot.close_to) for spot in self.spots]
        rows = [(feed.code, self.rows.how(feed).one_spot) for feed in self.feeds]
        return tuple(
            (code, spot)
            for code, only_one in rows
            for spot, close_to in places
            if close_to in ("", code) and (spot == first_id or not only_one)
        )

    def at_spot(self, spot_id: int) -> str:
        """A spot in words, by its number; also one that is no longer on the plan."""
        spot = next((s for s in self.spots if s.id == spot_id), None)
        return "a spot that is gone" if spot is None else f"spot {spot.number}"


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


@dataclass(frozen=True, slots=True, kw_only=True)
class DamagedJob:
    """What can still be said of a job that can't be read; `changed_at` is None where not even that can."""

    id: int
    name: str
    place: str
    changed_at: datetime | None
    fault: str
    takes: int


def result_of(kind: type[Result], record: "PassRecord | None") -> Result:
    """What a pass of one kind found; empty where there was none, or before it found anything."""
    return result_as(kind, None if record is None else record.result)


@dataclass(frozen=True, slots=True, kw_only=True)
class PassRecord:
    """A piece of work with sound: its steps and where it stands.

    Attributes
    ----------
    paused : bool
        Whether it holds before its next step until somebody says go on.
    waiting_s : float
        How long it still waits before the present step, so that a person can walk away; 0 while it sounds.
    waits_left_s : float
        All that is still waited for, the present wait included.
    """

    id: int
    job_id: int
    kind: PassKind
    state: PassState
    steps: tuple[tuple[str, int], ...]
    done_steps: int
    fraction: float
    seconds_per_step: float
    message: str
    started_at: datetime
    result: PassResult = None
    paused: bool = False
    waiting_s: float = 0.0
    waits_left_s: float = 0.0

    def channels_around(self, step: int) -> set[str]:
        """Channels from step `step` (1 is the first) to the present one."""
        return {channel for channel, _ in self.steps[max(0, step - 1) : self.done_steps + 1]}


@dataclass(frozen=True, slots=True, kw_only=True)
class LogEntry:
    """One line of the logbook; `number` orders them."""

    at: datetime
    text: str
    number: int = 0
