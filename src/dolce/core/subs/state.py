"""What settings of subs do at every seat."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.subs.cost import SearchLimits, found_at
from dolce.core.subs.field import BassField, SubSetting
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SubState:
    """The subs with some settings, at every seat.

    Attributes
    ----------
    settings : by sub; one that is silent is missing
    spread_db : over the seats, mean 20-120 Hz
    output_db : against the incoherent sum of all subs
    left_db : what one equaliser for all would leave
    by_seat_db : ndarray, shape (seats, points)
    change_db : of each seat's mean level against the subs as they are
    off_db : of each seat from the mean of all, RMS
    """

    settings: Mapping[str, SubSetting]
    spread_db: float
    output_db: float
    left_db: float
    by_seat_db: NDArray[np.float64]
    change_db: tuple[float, ...]
    off_db: tuple[float, ...]


def state_of(
    field: BassField,
    subs: Sequence[str],
    settings: Mapping[str, SubSetting],
    as_they_are: NDArray,
    limits: SearchLimits,
) -> SubState:
    """What some settings do; a sub without one is silent.

    Parameters
    ----------
    as_they_are : ndarray, shape (seats,)
        Mean level of each seat with the subs as they are.

    Raises
    ------
    InvalidValue
        If there is a setting of another sub.
    """
    if set(settings) - set(subs):
        raise InvalidValue("a sub is no longer in the plan.", where="subs", remedy="Reload the page.")
    weights = field.weights_of([settings.get(sub, SubSetting()) for sub in subs])
    weights[[k for k, sub in enumerate(subs) if sub not in settings]] = 0
    levels = field.levels_db(weights)
    state = state_of_levels(field, levels, as_they_are, settings=settings)
    if len(settings) < len(subs):
        return state
    return replace(state, output_db=found_at(field, tuple(settings[sub] for sub in subs), limits).output_db)


def state_of_levels(
    field: BassField, levels: NDArray, as_they_are: NDArray, *, settings: Mapping[str, SubSetting]
) -> SubState:
    """What levels over 1/12 octave at every spot come to, shape (spots, points), of whatever plays them."""
    by_seat = field.by_seat_db(levels)
    off = np.sqrt(((by_seat - field.seat_mean_db(by_seat)) ** 2).mean(axis=1))
    return SubState(
        settings=settings,
        by_seat_db=by_seat,
        spread_db=float(field.spread_db(levels)),
        output_db=float(field.output_db(levels)),
        left_db=float(field.unevenness_db(levels)),
        off_db=tuple(off.tolist()),
        change_db=tuple((by_seat.mean(axis=-1) - as_they_are).tolist()),
    )


def same_as_shown(first: Mapping[str, SubSetting], other: Mapping[str, SubSetting]) -> bool:
    """Whether two settings are the same as they are shown, to 10 microseconds and a tenth of a decibel."""
    return set(first) == set(other) and all(
        abs(a.delay_s - other[sub].delay_s) < 1.1e-5
        and abs(a.gain_db - other[sub].gain_db) < 0.06
        and a.polarity == other[sub].polarity
        for sub, a in first.items()
    )
