"""What is taken: the rows of the board, and how each of them is played."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Self

from dolce.core.checked import limited, ranges
from dolce.core.room import SUB_CODES, RoomPlan, channel_name, group_of
from dolce.errors import InvalidValue, NotFound

GROUPS = ("fronts", "surrounds", "heights", "others", "subs", "together")
JOINED = "_"  # no channel code has it
MOST_REPEATS = 8
MOST_COMBINATIONS = 12
_LEAST_OCTAVES = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Feed:
    """One row: a channel, or several that sound at once.

    Attributes
    ----------
    channels : tuple of str
        What is fed.
    label : str
        For the head of the row: "L", "Subs", "Sub1 + Sub2".
    """

    channels: tuple[str, ...]
    label: str
    title: str

    @property
    def code(self) -> str:
        """A channel's own code, or those of all that sound, joined; what takes hang on."""
        return JOINED.join(self.channels)

    @property
    def together(self) -> bool:
        """Whether several channels sound at once."""
        return len(self.channels) > 1

    @property
    def bass_alone(self) -> bool:
        """Whether only subs sound."""
        return bass_alone(self.code)

    @property
    def group(self) -> str:
        """One of `GROUPS`."""
        return "together" if self.together else group_of(self.channels[0])


@dataclass(frozen=True, slots=True, kw_only=True)
class HowTaken:
    """How a row is played.

    Attributes
    ----------
    low_hz, high_hz : float
        Range of the test signal; drawn in below half the sample rate.
    sweep_s : float or None
        Its length; None for the rig's.
    offset_db : float
        Against the rig's sweep level.
    repeats : int
        Takes that are averaged.
    one_spot : bool
        Whether one spot is enough: for a channel of which level and delay are wanted, but no curve.
    """

    low_hz: float = limited(5, 2000, where="range from", unit="Hz", default=10.0)
    high_hz: float = limited(40, 24_000, where="range to", unit="Hz", default=22_000.0)
    sweep_s: float | None = limited(1, 20, where="sweep length", unit="s", default=None)
    offset_db: float = limited(-40, 12, where="level offset", unit="dB", default=0.0)
    repeats: int = limited(1, MOST_REPEATS, where="averaged takes", whole=True, default=1)
    one_spot: bool = False

    def __post_init__(self) -> None:
        ranges(self)
        if self.high_hz < self.low_hz * 2**_LEAST_OCTAVES:
            raise InvalidValue(
                f"{self.low_hz:g} to {self.high_hz:g} Hz is less than an octave.",
                where="range to",
                remedy=f"End at {self.low_hz * 2**_LEAST_OCTAVES:.0f} Hz or above.",
            )


def label_of(code: str) -> str:
    """The code of a row for people: "Sub1_Sub2" is "Sub1 + Sub2"."""
    return code.replace(JOINED, " + ")


def name_of(code: str) -> str:
    """The row of a code spelled out: "Left"; several by their codes."""
    return channel_name(code) if JOINED not in code else label_of(code)


def channels_of(code: str) -> tuple[str, ...]:
    """The channels that a row of this code plays."""
    return tuple(code.split(JOINED))


def bass_alone(code: str) -> bool:
    """Whether only subs sound in the row of a code."""
    return all(channel in SUB_CODES for channel in channels_of(code))


WHOLE_RANGE = HowTaken()
BASS_RANGE = HowTaken(high_hz=250.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Rows:
    """Which rows a board has besides its channels, and how groups and rows are played where not as usual.

    Attributes
    ----------
    combinations : tuple of tuple of str
        Channels that sound at once.
    subs_together : bool
        Whether all subs at once are a row, where there are several.
    groups, rows : mapping of str to HowTaken
        By group (`GROUPS`) and by code; a row's own counts before its group's.
    """

    combinations: tuple[tuple[str, ...], ...] = ()
    subs_together: bool = True
    groups: Mapping[str, HowTaken] = field(default_factory=dict)
    rows: Mapping[str, HowTaken] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if len(self.combinations) > MOST_COMBINATIONS:
            raise InvalidValue(
                f"{len(self.combinations)} combinations are too many.",
                where="combination",
                remedy=f"Keep {MOST_COMBINATIONS} of them.",
            )
        if unknown := set(self.groups) - set(GROUPS):
            raise InvalidValue(
                f"there is no group {sorted(unknown)[0][:20]!r}.", where="group", remedy="Reload the page."
            )

    def feeds(self, plan: RoomPlan) -> tuple[Feed, ...]:
        """The rows for a plan: its channels in their order, all subs together, then combinations of what is there."""
        single = [Feed(channels=(s.channel,), label=s.channel, title=s.title) for s in plan.speakers]
        subs = tuple(s.channel for s in plan.speakers if s.channel in SUB_CODES)
        more = (
            [Feed(channels=subs, label="Subs", title="All subs together")]
            if (self.subs_together and len(subs) > 1)
            else []
        )
        more += [
            Feed(channels=some, label=" + ".join(some), title=" and ".join(some) + " together")
            for some in self.combinations
            if set(some) <= set(plan.channels) and (some != subs or not more)
        ]
        return (*single, *more)

    def how(self, feed: Feed) -> HowTaken:
        """How a row is played: as it says, else as its group says, else over the whole range, subs over the bass."""
        usual = BASS_RANGE if feed.bass_alone else WHOLE_RANGE
        return self.rows.get(feed.code) or self.groups.get(feed.group) or usual

    def with_combination(self, plan: RoomPlan, channels: tuple[str, ...]) -> Self:
        """The same with another row in which channels sound at once.

        Raises
        ------
        InvalidValue
            If there are fewer than two, or there is such a row.
        """
        some = tuple(c for c in plan.channels if c in channels)
        if len(some) < 2:
            raise InvalidValue(
                "a combination needs two channels or more.",
                where="combination",
                remedy="Choose those that shall sound at once.",
            )
        if all(c in SUB_CODES for c in some) and len(some) == len(plan.subs):
            return replace(self, subs_together=True)
        if some in self.combinations or some in [feed.channels for feed in self.feeds(plan)]:
            raise InvalidValue(
                f"{' and '.join(some)} together are a row already.", where="combination", remedy="Choose others."
            )
        return replace(self, combinations=(*self.combinations, some))

    def without_combination(self, plan: RoomPlan, code: str) -> Self:
        """The same without a row; its takes are kept and come back with it.

        Raises
        ------
        NotFound
            If there is no such row of several channels.
        """
        if code == JOINED.join(s.channel for s in plan.subs) and self.subs_together:
            return replace(self, subs_together=False)
        kept = tuple(some for some in self.combinations if JOINED.join(some) != code)
        if kept == self.combinations:
            raise NotFound(f"there is no combination {code[:40]!r}.", where="combination", remedy="Reload the page.")
        return replace(self, combinations=kept)

    def with_how(self, code_or_group: str, how: HowTaken | None) -> Self:
        """The same with a group or a row played like that; None for as usual."""
        of_group = code_or_group in GROUPS
        changed = {k: v for k, v in (self.groups if of_group else self.rows).items() if k != code_or_group}
        if how is not None:
            changed[code_or_group] = how
        return replace(self, groups=changed) if of_group else replace(self, rows=changed)
