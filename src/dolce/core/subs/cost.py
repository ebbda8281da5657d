"""What the calibrator allows for the subs, and what settings come to at the spots: how even, how loud, at what cost."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.subs.field import BassField, SubSetting

# What counts how much, in dB of each: seats alike, spots alike, what one equaliser would leave, more loss than allowed.
# Tried on 39 simulated rooms at spots that were not given: other weights give to one what they take from another, and
# gain less than 1 %. So does knowing the field everywhere around the seats: what is not in the spots is not the limit.
_SEATS, _SPOTS, _LEFT, _TOO_SOFT = 1.5, 0.5, 2.0, 6.0


@dataclass(frozen=True, slots=True, kw_only=True)
class SearchLimits:
    """What the calibrator allows.

    Attributes
    ----------
    max_loss_db : float
        Of output against the subs' incoherent sum, over the band and the spots.
    max_delay_s : float
        Between the earliest and the latest sub.
    max_cut_db : float
        Of one sub against the loudest; 0 keeps gains as they were matched.
    all_passes : int
        Second-order sections for each sub.
    """

    max_loss_db: float = limited(0, 12, where="largest loss of output", unit="dB", default=3.0)
    max_delay_s: float = limited(0, 0.1, where="largest delay", unit="s", default=0.02)
    max_cut_db: float = limited(0, 20, where="largest cut of a sub", unit="dB", default=10.0)
    all_passes: int = limited(0, 4, where="all-passes", whole=True, default=0)

    def __post_init__(self) -> None:
        ranges(self)


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """Settings, and what they do at the spots that they were found at.

    Attributes
    ----------
    settings : tuple of SubSetting
        Delays from 0, the loudest gain 0 dB.
    """

    settings: tuple[SubSetting, ...]
    spread_db: float
    output_db: float
    left_db: float
    cost: float

    @property
    def deviation_db(self) -> float:
        """What is left between the seats, and to correct: what a softer compromise is chosen for."""
        return self.spread_db + self.left_db


def found_at(field: BassField, settings: tuple[SubSetting, ...], limits: SearchLimits) -> Found:
    """What settings do at a field's spots."""
    levels = field.levels_db(field.weights_of(settings))
    cost = unevenness(field, levels) + too_soft(field.output_db(levels), limits)
    return Found(
        settings=settings,
        spread_db=float(field.spread_db(levels)),
        output_db=float(field.output_db(levels)),
        left_db=float(field.unevenness_db(levels)),
        cost=float(cost),
    )


def unevenness(field: BassField, levels_db: NDArray) -> NDArray:
    """The part of the cost that does not ask how loud it is, of levels (..., spots, points)."""
    return (
        _SEATS * field.spread_db(levels_db)
        + _SPOTS * field.spot_spread_db(levels_db)
        + _LEFT * field.unevenness_db(levels_db)
    )


def too_soft(output_db: NDArray, limits: SearchLimits) -> NDArray:
    """The other part: what lies below the loss that is allowed."""
    return _TOO_SOFT * np.maximum(0.0, -limits.max_loss_db - output_db)
