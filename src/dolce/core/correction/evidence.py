"""What leaving each spot out says about correcting, frequency by frequency."""

from collections.abc import Hashable, Sequence
from dataclasses import dataclass, replace
from itertools import compress

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.correction.limits import Limits
from dolce.core.dsp import energy_mean_db, in_band, power_db
from dolce.core.uncertainty import effective_count

_WORTH_LEFT, _AGREED_FROM_HZ = 0.9, 150.0
TRUST_DB = 8.0  # what single points of a room are off by, before anything is measured (standard deviation)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Needs:
    """What each spot lacks of a target, at its own level.

    Attributes
    ----------
    error_db : ndarray, shape (spots, points)
        Target minus level, each spot brought to the target by its mean over a band: a spot further away is softer, and
        no filter's business.
    weight : ndarray, shape (spots,)
        Adds up to 1.
    seat_of : tuple or None
        The seat of each spot; None where they stand around one.
    """

    error_db: NDArray[np.float64]
    weight: NDArray[np.float64]
    seat_of: tuple[Hashable, ...] | None = None

    @classmethod
    def of(
        cls,
        level_db: NDArray,
        target_db: NDArray,
        *,
        at_hz: NDArray,
        band_hz: tuple[float, float],
        weights: ArrayLike | None = None,
        offset_db: float = 0.0,
        seat_of: Sequence[Hashable] | None = None,
    ) -> "Needs":
        """Of levels by spot, shape (spots, points); all lack `offset_db` more where the target is hung higher than
        that band says."""
        inside = in_band(at_hz, band_hz)
        lacking = target_db - level_db
        lacking = lacking - lacking[:, inside].mean(axis=1, keepdims=True) + offset_db
        weight = np.ones(len(level_db)) if weights is None else np.asarray(weights, dtype=float)
        used = weight > 0
        return cls(
            error_db=lacking[used],
            weight=weight[used] / weight.sum(),
            seat_of=None if seat_of is None else tuple(compress(seat_of, used)),
        )

    @property
    def spots(self) -> int:
        return len(self.weight)

    def loud_db(self) -> NDArray[np.float64]:
        """How far the energy average over the spots is above the target, shape (points,)."""
        return power_db(self.weight @ 10 ** (-self.error_db / 10))

    def desired_db(self) -> NDArray[np.float64]:
        """What is asked of filters for all spots, without limits, shape (points,).

        Notes
        -----
        Where spots disagree, their mean says less of places that were not measured: it shrinks by
        t^2 / (t^2 + s^2 / n), the estimate of least error for n spots with a spread of s where rooms are off by t
        (W. James and C. Stein, 4th Berkeley Symposium, 1961; t is our own).
        """
        return _desired(self.weight @ self.error_db, self.weight @ self.error_db**2, self._effective)

    def desired_without_each_db(self) -> NDArray[np.float64]:
        """The same without each spot in turn, shape (spots, points); of no use for one spot."""
        others = 1 - self.weight[:, None]
        mean = (self.weight @ self.error_db - self.weight[:, None] * self.error_db) / others
        square = (self.weight @ self.error_db**2 - self.weight[:, None] * self.error_db**2) / others
        return _desired(mean, square, max(1.0, self._effective - 1))

    @property
    def _effective(self) -> float:
        """How many spots count (Kish)."""
        return effective_count(self.weight)

    def residual_db2(self, limits: Limits, *, lowered_db: float = 0.0) -> NDArray[np.float64]:
        """Square of the deviation at spots that were left out, mean over the spots by weight, in dB^2, shape (points,).

        Each spot is corrected by what the others ask for, within the largest boost and cut, toward a target that is
        lower by `lowered_db`. Two spots at least.
        """
        asked = np.clip(self.desired_without_each_db() - lowered_db, -limits.max_cut_db, limits.max_boost_db)
        return self.weight @ (self.error_db - lowered_db - asked) ** 2

    def gain_db2(self, limits: Limits) -> NDArray[np.float64] | None:
        """By how much correcting each point lowers the square of the deviation at spots that were left out.

        In dB^2, shape (points,). None for one spot: then nothing can be left out.
        """
        return None if self.spots < 2 else self.weight @ self.error_db**2 - self.residual_db2(limits)


STEPS_DB = (0.0, 1.0, 2.0, 3.0, 4.0, 6.0)  # largest boosts, and lower targets, that are compared


def left_with_boosts_db(at_hz: NDArray, needs: Needs, limits: Limits) -> list[tuple[float, float]]:
    """Largest boosts, that of the limits among them, and the RMS deviation over the range at spots left out with each.

    Each spot is corrected by what the others ask for, by as many filters as that takes: what boosts can buy at most.
    Empty for one spot.
    """
    inside = in_band(at_hz, (limits.from_hz, limits.to_hz))
    if needs.spots < 2:
        return []
    return [
        (boost, float(np.sqrt(needs.residual_db2(replace(limits, max_boost_db=boost))[inside].mean())))
        for boost in sorted({*STEPS_DB, limits.max_boost_db})
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetLevel:
    """A level of the target against where it is now, and its price.

    Attributes
    ----------
    lowered_db : by how much it is lower
    level_db : that level, as the target's level is counted
    boost_db : the most that all spots together ask filters to add
    lost_db : by how much pink noise over the range becomes softer, where filters do all they may
    cuts_alone_db, within_limits_db : RMS deviation over the range at spots left out, by cuts alone and with boosts
    """

    lowered_db: float
    level_db: float
    boost_db: float
    lost_db: float
    cuts_alone_db: float
    within_limits_db: float


def target_levels(
    at_hz: NDArray, needs: Needs, limits: Limits, *, range_hz: tuple[float, float], at_level_db: float
) -> tuple[TargetLevel, ...]:
    """What lower levels of the target cost and give; empty for one spot.

    By as many filters as that takes: what every spot would get from what the others ask for.
    """
    inside = in_band(at_hz, range_hz)
    if needs.spots < 2:
        return ()
    desired, level = needs.desired_db(), -(needs.weight @ needs.error_db)

    def residual(lowered: float, boost: float) -> float:
        remaining_db2 = needs.residual_db2(replace(limits, max_boost_db=boost), lowered_db=lowered)
        return float(np.sqrt(remaining_db2[inside].mean()))

    found = []
    for lowered in STEPS_DB:
        done = np.clip(desired - lowered, -limits.max_cut_db, limits.max_boost_db)
        lost = energy_mean_db(level[inside]) - energy_mean_db((level + done)[inside])
        found.append(
            TargetLevel(
                lowered_db=lowered,
                level_db=at_level_db - lowered,
                boost_db=float(max(0.0, (desired - lowered)[inside].max())),
                lost_db=float(lost),
                cuts_alone_db=residual(lowered, 0.0),
                within_limits_db=residual(lowered, limits.max_boost_db),
            )
        )
    return tuple(found)


def agreed_to_hz(at_hz: NDArray, needs: Needs, limits: Limits) -> float | None:
    """Up to where correcting is worth it at spots that were left out; None for one spot.

    The first frequency above 150 Hz around which, over an octave, it lowers the deviation there by less than a tenth.
    """
    gain = needs.gain_db2(limits)
    if gain is None:
        return None
    lack, octave = needs.weight @ needs.error_db**2, np.log2(at_hz)
    half = max(1, round(0.5 / float(np.median(np.diff(octave)))))
    total, gained = (
        np.convolve(np.pad(gains, half, mode="edge"), np.ones(2 * half + 1), "valid") for gains in (lack, gain)
    )
    residual = np.sqrt(np.maximum(total - gained, 0) / np.maximum(total, 1e-12))
    poor = np.flatnonzero((residual > _WORTH_LEFT) & (at_hz > _AGREED_FROM_HZ))
    return float(at_hz[poor[0]] if poor.size else at_hz[-1])


def _desired(mean: NDArray, square: NDArray, spots: float) -> NDArray:
    variance = np.maximum(square - mean**2, 0)
    return mean * TRUST_DB**2 / (TRUST_DB**2 + variance / spots)
