"""One calibration of one room."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from string import ascii_uppercase
from typing import Literal

from dolce.core.geometry import RoomSize
from dolce.core.job.feeds import Feed, Rows
from dolce.core.job.rig import Rig
from dolce.core.processor import ProcessorLimits, ProcessorState
from dolce.core.rig import Ceiling
from dolce.core.room import RoomPlan, Seat, Speaker, Spot
from dolce.errors import Conflict, NotFound

Units = Literal["metres", "feet"]
UNITS: tuple[Units, ...] = ("metres", "feet")


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
    def main_channels(self) -> tuple[str, ...]:
        """Codes of all loudspeakers but the subs."""
        return tuple(speaker.channel for speaker in self.speakers if not speaker.is_sub)

    @property
    def subs(self) -> tuple[str, ...]:
        return tuple(speaker.channel for speaker in self.speakers if speaker.is_sub)

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
class DamagedJob:
    """What can still be said of a job that can't be read; `changed_at` is None where not even that can."""

    id: int
    name: str
    place: str
    changed_at: datetime | None
    fault: str
    takes: int
