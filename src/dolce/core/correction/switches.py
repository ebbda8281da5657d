"""Switches at a monitor's back: what each position does, and which positions suit a room best."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise, product
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.correction.evidence import Needs
from dolce.core.dsp import in_band, smoothed_db
from dolce.core.filters import BandFilter, chain_level_db
from dolce.errors import InvalidValue

MOST_SWITCHES, MOST_POSITIONS, MOST_COMBINATIONS = 8, 12, 50_000
_GAP_OCTAVES, _GAP_DB = 2.0, 0.5  # between points further apart a curve that moves is anybody's guess
_FURTHEST_DB = 24.0
_AS_GOOD_DB = 0.05  # of deviation: no switch is turned for less
_RATE_HZ = 48_000  # closed forms of switches are drawn at; an analogue filter has none

SwitchShape = Literal["low shelf", "high shelf", "peaking"]
SHAPES: dict[SwitchShape, str] = {
    "low shelf": "low shelf or bass tilt",
    "high shelf": "high shelf or treble",
    "peaking": "desk cut or presence",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Position:
    """One position of a switch, and what it does against its neutral one.

    Attributes
    ----------
    name : str
        As printed on the cabinet: "-2 dB".
    frequency_hz, level_db : tuples of equally many numbers
        Straight over log frequency, held beyond the ends; empty for the position that does nothing.

    Raises
    ------
    InvalidValue
        Where points don't rise, reach further than 24 dB, or leave a gap of more than two octaves in which the curve
        moves by more than half a dB.
    """

    name: str
    frequency_hz: tuple[float, ...] = ()
    level_db: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        _named(self.name, "position")
        if len(self.frequency_hz) != len(self.level_db):
            raise InvalidValue(
                f"{len(self.frequency_hz)} frequencies and {len(self.level_db)} levels.",
                where="switch curve",
                remedy="Give one level for each frequency.",
            )
        if not self.frequency_hz:
            return
        frequency = checked.rising(self.frequency_hz, where="switch curve")
        for level in checked.finite(self.level_db, where="switch curve"):
            checked.within(float(level), low=-_FURTHEST_DB, high=_FURTHEST_DB, where="switch curve", unit="dB")
        for (low, at_low), (high, at_high) in pairwise(zip(frequency, self.level_db, strict=True)):
            if np.log2(high / low) > _GAP_OCTAVES and abs(at_high - at_low) > _GAP_DB:
                raise InvalidValue(
                    f"{self.name}: nothing is known between {low:.0f} and {high:.0f} Hz, where its curve "
                    f"moves by {abs(at_high - at_low):.1f} dB.",
                    where="switch curve",
                    remedy="Add points there, or take it again.",
                )

    def change_db(self, at_hz: NDArray) -> NDArray[np.float64]:
        """Level in dB, shape as given."""
        if not self.frequency_hz:
            return np.zeros(at_hz.shape)
        return np.interp(np.log(at_hz), np.log(self.frequency_hz), self.level_db)


@dataclass(frozen=True, slots=True, kw_only=True)
class Switch:
    """One switch with its positions; the first is neutral."""

    name: str
    positions: tuple[Position, ...]

    def __post_init__(self) -> None:
        _named(self.name, "switch")
        checked.within(len(self.positions), low=2, high=MOST_POSITIONS, where=f"positions of {self.name}", unit="")
        if len({position.name for position in self.positions}) < len(self.positions):
            raise InvalidValue(
                "two positions have one name.",
                where=f"positions of {self.name}",
                remedy="Name each as it is printed on the cabinet.",
            )

    @classmethod
    def of_steps(
        cls, name: str, *, shape: SwitchShape, frequency_hz: float, q: float, steps_db: Sequence[float], at_hz: NDArray
    ) -> "Switch":
        """A switch as data sheets describe it: a shelf or a bell at a frequency in steps of dB, 0 among them or added.

        Drawn by the Audio EQ Cookbook's filters.
        """

        def drawn(step: float) -> Position:
            if not step:
                return Position(name="0 dB")
            band = BandFilter(frequency_hz=frequency_hz, gain_db=step, q=q, kind=shape)
            level = chain_level_db([band], at_hz=at_hz, sample_rate_hz=_RATE_HZ)
            return Position(
                name=f"{step:+g} dB".replace("-", "\N{MINUS SIGN}"),
                frequency_hz=tuple(np.round(at_hz, 3)),
                level_db=tuple(np.round(level, 3)),
            )

        steps = [0.0, *(step for step in dict.fromkeys(float(step_db) for step_db in steps_db) if step)]
        return cls(name=name, positions=tuple(drawn(step) for step in steps))

    def position(self, name: str) -> Position:
        """By its name; the neutral one where it has none such."""
        return next((position for position in self.positions if position.name == name), self.positions[0])


@dataclass(frozen=True, slots=True, kw_only=True)
class MonitorSwitches:
    """All switches of one model of monitor, kept by name for all jobs."""

    id: int | None = None
    name: str
    switches: tuple[Switch, ...]

    def __post_init__(self) -> None:
        _named(self.name, "model")
        checked.within(len(self.switches), low=1, high=MOST_SWITCHES, where="switches", unit="")
        if len({switch.name for switch in self.switches}) < len(self.switches):
            raise InvalidValue("two switches have one name.", where="switches", remedy="Name each as it is printed.")
        if self.combinations > MOST_COMBINATIONS:
            raise InvalidValue(
                f"{self.combinations} combinations of positions.",
                where="switches",
                remedy=f"At most {MOST_COMBINATIONS} can be tried: leave out what won't be used.",
            )

    @property
    def combinations(self) -> int:
        return int(np.prod([len(switch.positions) for switch in self.switches]))

    def with_switch(self, switch: Switch) -> "MonitorSwitches":
        """The same with one more, in place of one of that name."""
        known = switch.name in {switch.name for switch in self.switches}
        rows = tuple(switch if candidate.name == switch.name else candidate for candidate in self.switches)
        return replace(self, switches=rows if known else (*rows, switch))

    def positions(self, names: Mapping[str, str]) -> dict[str, str]:
        """A position of every switch: that which is named, else the neutral one."""
        return {switch.name: switch.position(names.get(switch.name, "")).name for switch in self.switches}

    def change_db(self, names: Mapping[str, str], at_hz: NDArray) -> NDArray[np.float64]:
        """What positions do together against all neutral, in dB, shape as given."""
        return np.sum(
            [switch.position(names.get(switch.name, "")).change_db(at_hz) for switch in self.switches], axis=0
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class SwitchesAt:
    """The switches of one monitor in the room.

    Attributes
    ----------
    model : MonitorSwitches
        As it was when it was chosen: what is kept under its name may change.
    measured, chosen : mappings of switch to position
        As they stood while the round was taken, and as they shall stand.
    """

    model: MonitorSwitches
    measured: Mapping[str, str] = field(default_factory=dict)
    chosen: Mapping[str, str] = field(default_factory=dict)

    @property
    def turned(self) -> tuple[tuple[str, str, str], ...]:
        """Switch, where it stood and where it shall stand, of those that are to be turned."""
        now, then = self.model.positions(self.measured), self.model.positions(self.chosen)
        return tuple((name, now[name], then[name]) for name in now if now[name] != then[name])

    def change_db(self, at_hz: NDArray) -> NDArray[np.float64]:
        """What turning them changes of what was measured, in dB, shape as given."""
        return self.model.change_db(self.chosen, at_hz) - self.model.change_db(self.measured, at_hz)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SwitchSearch:
    """The best positions, and how well they do.

    Attributes
    ----------
    positions : mapping of switch to position
    before_db, after_db : float
        RMS deviation over the range at the spots that were used, mean over the spots by weight.
    after_at_new_spots_db : float or None
        At each spot, with the positions that the others ask for; None for one spot.
    same_without_each : int
        Of how many spots the others ask for these very positions.
    """

    positions: Mapping[str, str]
    before_db: float
    after_db: float
    after_at_new_spots_db: float | None
    same_without_each: int


def best_switches(
    at: SwitchesAt, needs: Needs, *, at_hz: NDArray, range_hz: tuple[float, float], level_band_hz: tuple[float, float]
) -> SwitchSearch:
    """The combination of positions that comes closest to a target; all are tried.

    Parameters
    ----------
    needs : Needs
        What each spot lacks as it was measured, shape (spots, points) on `at_hz`.
    level_band_hz : (float, float)
        By whose mean the channel is levelled again afterwards: a switch that only makes it softer gains nothing.

    Notes
    -----
    A switch stays where it is unless turning it lowers the deviation by 0.05 dB or more.
    """
    model, inside = at.model, in_band(at_hz, range_hz)
    middle = in_band(at_hz, level_band_hz)
    share = np.gradient(np.log2(at_hz))[inside]
    share = share / share.sum()

    def levelled(change: NDArray) -> NDArray:
        return (change - change[..., middle].mean(axis=-1, keepdims=True))[..., inside]

    combinations = list(product(*[range(len(switch.positions)) for switch in model.switches]))
    places = np.array(combinations)
    change = -model.change_db(at.measured, at_hz) + np.zeros((len(combinations), at_hz.size))
    for column, switch in enumerate(model.switches):
        change += np.array([position.change_db(at_hz) for position in switch.positions])[places[:, column]]
    change, error = levelled(change), needs.error_db[:, inside]
    # Mean square at every spot for every combination: (l - c)^2 = l^2 - 2 l c + c^2.
    square = ((error**2) @ share)[:, None] - 2 * (error * share) @ change.T + (change**2) @ share
    deviation = np.sqrt(np.maximum(square, 0))  # (spots, combinations)
    now = at.model.positions(at.measured)
    present = np.array(
        [[position.name for position in switch.positions].index(now[switch.name]) for switch in model.switches]
    )
    turned = (places != present).sum(axis=1)
    stays = int(np.flatnonzero(turned == 0)[0])

    def best(weight: NDArray) -> int:
        mean = weight @ deviation / weight.sum()
        return int(np.argmin(mean + _AS_GOOD_DB * turned))

    found = best(needs.weight)
    others = (
        [best(np.where(np.arange(needs.spots) == k, 0.0, needs.weight)) for k in range(needs.spots)]
        if needs.spots > 1
        else []
    )
    left_out = float(needs.weight @ deviation[np.arange(needs.spots), others]) if others else None
    return SwitchSearch(
        positions={
            switch.name: switch.positions[place].name
            for switch, place in zip(model.switches, places[found], strict=True)
        },
        before_db=float(needs.weight @ deviation[:, stays]),
        after_db=float(needs.weight @ deviation[:, found]),
        after_at_new_spots_db=left_out,
        same_without_each=sum(other == found for other in others),
    )


def measured_position(name: str, *, at_hz: NDArray, without_db: NDArray, with_db: NDArray) -> Position:
    """What a position does, from levels at the same spots without and with it.

    Parameters
    ----------
    without_db, with_db : ndarray, shape (spots, points)
        The room is the same in both and drops out; points where either is unknown are left out.

    Raises
    ------
    InvalidValue
        Where what is left has a gap.
    """
    difference = _difference_db(at_hz, without_db, with_db)
    known = np.isfinite(difference).all(axis=0)
    if known.sum() < 3:
        raise InvalidValue(
            f"{name}: too little was taken of it.", where="switch curve", remedy="Take the same spot in both positions."
        )
    level = np.median(difference[:, known], axis=0)
    return Position(
        name=name, frequency_hz=tuple(np.round(at_hz[known], 3).tolist()), level_db=tuple(np.round(level, 2).tolist())
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class SwitchCheck:
    """What turning switches really changed, against what was predicted.

    Attributes
    ----------
    off_db : float
        RMS of the difference over the range.
    worst_db, worst_hz : float
        Where it is largest, over a third of an octave: measured minus predicted.
    spots : int
    """

    off_db: float
    worst_db: float
    worst_hz: float
    spots: int

    @property
    def agrees(self) -> bool:
        """Whether nothing is off by a dB or more (our choice)."""
        return abs(self.worst_db) < 1.0


def checked_switches(
    at: SwitchesAt, *, at_hz: NDArray, before_db: NDArray, after_db: NDArray, range_hz: tuple[float, float]
) -> SwitchCheck:
    """Levels at the same spots before and after, shape (spots, points), against the prediction.

    Levels as such don't count: gain may have been touched in between, and the check is for the curve.
    """
    difference = np.median(_difference_db(at_hz, before_db, after_db), axis=0) - at.change_db(at_hz)
    inside = in_band(at_hz, range_hz)
    off = difference[inside] - np.median(difference[inside])
    k = int(np.argmax(np.abs(off)))
    return SwitchCheck(
        off_db=float(np.sqrt(np.mean(off**2))),
        worst_db=float(off[k]),
        worst_hz=float(at_hz[inside][k]),
        spots=len(before_db),
    )


def _difference_db(at_hz: NDArray, before_db: NDArray, after_db: NDArray) -> NDArray[np.float64]:
    """By how much levels rose, of their energy over a third of an octave, shape (spots, points): what a switch does is
    broad, and in a null of the room a hair's breadth of the microphone is worth decibels.
    """
    unknown = np.isnan(after_db) | np.isnan(before_db)
    after, before = (
        smoothed_db(at_hz, np.where(unknown, -np.inf, level_db), at_hz=at_hz, per_octave=3)
        for level_db in (after_db, before_db)
    )
    return np.where(unknown, np.nan, after - before)


def _named(name: str, what: str) -> None:
    checked.text(name, longest=60, where=f"name of the {what}")
    if not name.strip():
        raise InvalidValue(f"a {what} needs a name.", where=f"name of the {what}", remedy="Type one.")
