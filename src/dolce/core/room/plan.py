"""The plan of a room: everything that stands, sits or is measured in it, valid as a whole.

Origin and axes are those of `dolce.core.geometry.placement`: front left corner of the floor, x right, y back, z up.
"""

import re
from dataclasses import dataclass, field, replace
from typing import Literal, NoReturn

from dolce.core import checked
from dolce.core.acoustics import speed_of_sound
from dolce.core.checked import limited, ranges
from dolce.core.geometry import Corners, Point, RoomSize, checked_outline, distance_m, inside_outline
from dolce.core.room.channels import CHANNEL_NAMES, SUB_CODES, channel_name
from dolce.core.room.layouts import LAYOUT_NAMES
from dolce.core.room.surfaces import Reverberation
from dolce.errors import InvalidValue, NotFound

MOST_CHANNELS, MOST_SUBS, MOST_SEATS, MOST_SPOTS, MOST_BOXES, MOST_OUTPUTS = 16, 4, 12, 60, 20, 64
BOX_KINDS = ("desk", "sofa", "screen", "door", "window", "cabinet", "other")
NEAREST_TWO_M = 0.05
CLOSE_M = (0.025, 1.0)  # of a spot that is meant to stand close to a speaker
_CODE = re.compile(r"[A-Za-z][A-Za-z0-9]{0,7}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Speaker:
    """One loudspeaker or sub.

    Attributes
    ----------
    channel : str
        Code of the feed ("L", "Ltf"), "Sub1" to "Sub4", or a free one of up to 8 letters and digits.
    place : Point
        Of its acoustic axis, between woofer and tweeter.
    output : int
        The physical output it hangs on; 1 is the first.
    name : str
        For free codes; empty where the code's own name serves.
    aim : "main seat", "straight" or "angle"
        Where its axis points in the plan; straight is along the room, or out of the wall it is built into.
    toe_in_deg : float
        For aim "angle": turned by so much from straight toward the middle line of the room.
    source : "point" or "line"
    low_limit_hz : float or None
        Below it the speaker gives up; None for full range.
    screened : bool
        Behind a screen or a cloth, which takes treble.
    in_wall : bool
        Flush in the wall that it is nearest to, which then can't reflect it.
    partner : str or None
        The channel that it forms a pair with.
    """

    channel: str
    place: Point
    output: int = limited(1, MOST_OUTPUTS, where="output", whole=True)
    name: str = ""
    aim: Literal["main seat", "straight", "angle"] = "main seat"
    toe_in_deg: float = limited(-180, 180, where="toe-in", unit="degrees", default=0.0)
    source: Literal["point", "line"] = "point"
    low_limit_hz: float | None = limited(5, 500, where="low limit", unit="Hz", default=None)
    in_wall: bool = False
    screened: bool = False
    partner: str | None = None

    def __post_init__(self) -> None:
        if not _CODE.fullmatch(self.channel):
            raise InvalidValue(
                f"{self.channel!r} can't be a channel code.",
                where="channel",
                remedy="Use up to 8 letters and digits, a letter first.",
            )
        where = f"speaker {self.channel}"
        checked.text(self.name, longest=40, where=f"{where}, name")
        ranges(self, of=where)
        for value, choices, what in (
            (self.aim, ("main seat", "straight", "angle"), "aim"),
            (self.source, ("point", "line"), "source"),
        ):
            if value not in choices:
                raise InvalidValue(
                    f"{value!r} is not a choice.", where=f"{where}, {what}", remedy=f"Choose {', '.join(choices)}."
                )

    @property
    def is_sub(self) -> bool:
        return self.channel in SUB_CODES

    @property
    def title(self) -> str:
        """The name in words."""
        return self.name or channel_name(self.channel)


@dataclass(frozen=True, slots=True, kw_only=True)
class Seat:
    """Where somebody listens; `place` is the middle of the head, `weight` how much the seat counts, 0 to 10."""

    id: int
    name: str
    place: Point
    is_main: bool = True
    weight: float = limited(0, 10, where="weight", default=1.0)

    def __post_init__(self) -> None:
        if not self.name.strip() or len(self.name) > 40:
            raise InvalidValue("a seat needs a name of up to 40 characters.", where="seat")
        checked.text(self.name, longest=40, where="seat")
        ranges(self, of=self.name)


@dataclass(frozen=True, slots=True, kw_only=True)
class Spot:
    """One microphone place. It belongs to a seat, stands close to a speaker, or is free.

    Attributes
    ----------
    id : int
        What takes hang on: never given to another spot of this plan.
    number : int
        For people: 1, 2, 3 ... in walking order.
    seat_id : int or None
    close_to : str
        Channel of the speaker that it stands close to; empty for none. Never together with a seat.
    """

    id: int
    number: int
    seat_id: int | None
    place: Point
    close_to: str = ""

    def __post_init__(self) -> None:
        if self.seat_id is not None and self.close_to:
            raise InvalidValue(
                "it can't belong to a seat and stand close to a speaker.",
                where=f"spot {self.number}",
                remedy="Choose one of both.",
            )


@dataclass(frozen=True, slots=True, kw_only=True)
class Box:
    """A desk, sofa, screen, door ... as a box along the axes; `place` is the middle of its underside."""

    id: int
    kind: str
    place: Point
    width_m: float = limited(0.01, 30, where="width", unit="m")
    depth_m: float = limited(0.01, 30, where="depth", unit="m")
    height_m: float = limited(0.01, 30, where="height", unit="m")
    name: str = ""

    def __post_init__(self) -> None:
        if self.kind not in BOX_KINDS:
            raise InvalidValue(
                f"{self.kind!r} is not a kind of box.", where="box", remedy=f"Choose {', '.join(BOX_KINDS)}."
            )
        checked.text(self.name, longest=40, where="name of a drawing")
        ranges(self, of=self.title)

    @property
    def title(self) -> str:
        return self.name or self.kind.capitalize()


@dataclass(frozen=True, slots=True, kw_only=True)
class Dismissal:
    """A finding that the calibrator set aside, with the reason, as long as its evidence stays the same."""

    key: str
    evidence: str
    reason: str

    def __post_init__(self) -> None:
        for value, where in ((self.key, "finding"), (self.evidence, "evidence"), (self.reason, "reason")):
            checked.text(value, longest=400, where=where)


def is_close(gap_m: float) -> bool:
    """Whether a spot so far from a speaker is close to it: the room adds little there."""
    return CLOSE_M[0] - 1e-9 <= gap_m <= CLOSE_M[1] + 1e-9


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomPlan:
    """A room with everything in it.

    Attributes
    ----------
    outline : corners, or empty for a plain box
        The floor's true shape within length and width.
    aside : speakers that belong to an earlier layout and come back with it.
    last_spot_id : int
        The highest id that a spot ever had.
    mirror_pairs : bool
        Whether moving one of a pair moves the other as its mirror image.

    Raises
    ------
    InvalidValue
        If something stands outside, two speakers share a place, a code or an output, there is no main seat, or the
        spots are not numbered 1, 2, 3 ...
    """

    size: RoomSize
    layout: str
    speakers: tuple[Speaker, ...]
    seats: tuple[Seat, ...]
    spots: tuple[Spot, ...] = ()
    boxes: tuple[Box, ...] = ()
    outline: Corners = ()
    reverberation: Reverberation = field(default_factory=Reverberation)
    mirror_pairs: bool = False
    dismissed: tuple[Dismissal, ...] = ()
    aside: tuple[Speaker, ...] = ()
    last_spot_id: int = 0

    def __post_init__(self) -> None:
        if self.layout not in LAYOUT_NAMES:
            raise InvalidValue(
                f"{self.layout!r} is not a known layout.", where="layout", remedy=f"Choose {', '.join(LAYOUT_NAMES)}."
            )
        if self.outline:
            checked_outline(self.outline, width_m=self.size.width_m, length_m=self.size.length_m)
        self._check_counts()
        for where, place in self.placed():
            self.require_inside(place, where=where)
        self._check_speakers()
        self._check_seats_and_spots()

    def _check_counts(self) -> None:
        for found, most, what in (
            (len(self.main_channels), MOST_CHANNELS, "channels"),
            (len(self.subs), MOST_SUBS, "subs"),
            (len(self.seats), MOST_SEATS, "seats"),
            (len(self.spots), MOST_SPOTS, "spots"),
            (len(self.boxes), MOST_BOXES, "drawings"),
        ):
            if found > most:
                raise InvalidValue(f"{found} {what}.", where=what, remedy=f"At most {most} fit.")
        if not self.speakers:
            raise InvalidValue("there is no speaker.", where="speakers", remedy="Keep at least one.")

    def _check_speakers(self) -> None:
        for k, listed in enumerate(self.speakers):
            for other in self.speakers[:k]:
                if listed.channel == other.channel:
                    raise InvalidValue(
                        f"{listed.channel} is there twice.", where="speakers", remedy="Give each its own code."
                    )
                if listed.output == other.output:
                    raise InvalidValue(
                        f"{other.channel} and {listed.channel} both hang on output {listed.output}.",
                        where=f"speaker {listed.channel}, output",
                        remedy="Give each its own output.",
                    )
                if distance_m(listed.place, other.place) < NEAREST_TWO_M:
                    raise InvalidValue(
                        f"{other.channel} stands there already.",
                        where=f"speaker {listed.channel}",
                        remedy="Choose another place, at least 5 cm away.",
                    )

    def _check_seats_and_spots(self) -> None:
        if sum(seat.is_main for seat in self.seats) != 1:
            raise InvalidValue(
                f"{sum(s.is_main for s in self.seats)} main seats.", where="seats", remedy="Exactly one is needed."
            )
        ids = {seat.id for seat in self.seats}
        if len(ids) != len(self.seats):
            raise InvalidValue("two seats share a number.", where="seats")
        if len({box.id for box in self.boxes}) != len(self.boxes):
            raise InvalidValue("two drawings share a number.", where="boxes")
        for expected, spot in enumerate(self.spots, 1):
            if spot.number != expected:
                raise InvalidValue(
                    f"spot {spot.number} follows spot {expected - 1}.", where="spots", remedy="Number them 1, 2, 3 ..."
                )
            if spot.seat_id is not None and spot.seat_id not in ids:
                raise InvalidValue(f"its seat {spot.seat_id} is not there.", where=f"spot {spot.number}")
            if spot.close_to and spot.close_to not in self.channels:
                raise InvalidValue(f"its speaker {spot.close_to} is not there.", where=f"spot {spot.number}")
        if len({spot.id for spot in self.spots}) != len(self.spots) or any(spot.id < 1 for spot in self.spots):
            raise InvalidValue("two spots share an id, or one has none.", where="spots")
        # Told apart for good: also from spots that went.
        object.__setattr__(self, "last_spot_id", max([self.last_spot_id, *(spot.id for spot in self.spots)]))

    def placed(self) -> list[tuple[str, Point]]:
        """Name in words and place of everything that must stand inside."""
        return [
            *((f"speaker {s.channel}", s.place) for s in self.speakers),
            *((s.name, s.place) for s in self.seats),
            *((f"spot {s.number}", s.place) for s in self.spots),
        ]

    def require_inside(self, place: Point, *, where: str) -> None:
        """Raise InvalidValue if a place is outside the room or its outline."""
        self.size.require_inside(place, where=where)
        if self.outline and not inside_outline(self.outline, place.x_m, place.y_m):
            raise InvalidValue(
                f"x {place.x_m:.2f}, y {place.y_m:.2f} m lies outside the outline.",
                where=where,
                remedy="Move it inside, or change the outline.",
            )

    @property
    def speed_m_s(self) -> float:
        """Speed of sound in the room's air."""
        return speed_of_sound(self.size.temperature_c)

    @property
    def main_channels(self) -> tuple[Speaker, ...]:
        return tuple(s for s in self.speakers if not s.is_sub)

    @property
    def subs(self) -> tuple[Speaker, ...]:
        return tuple(s for s in self.speakers if s.is_sub)

    @property
    def main_seat(self) -> Seat:
        return next(seat for seat in self.seats if seat.is_main)

    @property
    def channels(self) -> tuple[str, ...]:
        return tuple(s.channel for s in self.speakers)

    def speaker(self, channel: str) -> Speaker:
        """The speaker of a channel code, or NotFound."""
        found = next((s for s in self.speakers if s.channel == channel), None)
        return found or _missing(f"channel {channel!r}", "channel", f"Use {' or '.join(self.channels)}.")

    def seat(self, seat_id: int) -> Seat:
        """The seat of a number, or NotFound."""
        return next((s for s in self.seats if s.id == seat_id), None) or _missing(f"seat {seat_id}", "seat")

    def spot(self, spot_id: int) -> Spot:
        """The spot of an id, or NotFound."""
        return next((s for s in self.spots if s.id == spot_id), None) or _missing("such spot", "spot")

    def belongs_to(self, spot: Spot) -> str:
        """In words, what a spot belongs to: its seat's name, "close to L", or "free"."""
        if spot.seat_id is not None:
            return self.seat(spot.seat_id).name
        return f"close to {spot.close_to}" if spot.close_to else "free"

    @property
    def centre_spot(self) -> Spot | None:
        """The spot nearest to the middle of the main seat, of those that belong to it; None where it has none."""
        main = self.main_seat
        return min(self.spots_of(main.id), key=lambda s: (distance_m(s.place, main.place), s.number), default=None)

    def box(self, box_id: int) -> Box:
        """The box of a number, or NotFound."""
        return next((b for b in self.boxes if b.id == box_id), None) or _missing(f"drawing {box_id}", "drawing")

    def close_spots(self, channel: str) -> tuple[Spot, ...]:
        """Spots that are meant to stand close to a speaker, and do."""
        return tuple(
            spot
            for spot in self.spots
            if spot.close_to == channel and is_close(distance_m(spot.place, self.speaker(channel).place))
        )

    def spots_of(self, seat_id: int) -> tuple[Spot, ...]:
        return tuple(s for s in self.spots if s.seat_id == seat_id)

    def replaced(self, speaker: Speaker) -> "RoomPlan":
        """The plan with one speaker exchanged for its changed self."""
        return replace(self, speakers=tuple(speaker if s.channel == speaker.channel else s for s in self.speakers))


def known_channel(code: str) -> bool:
    """Whether a code has a meaning of its own."""
    return code in CHANNEL_NAMES or code in SUB_CODES


def _missing(what: str, where: str, remedy: str = "Reload the page.") -> NoReturn:
    raise NotFound(f"no {what} in this job.", where=where, remedy=remedy)
