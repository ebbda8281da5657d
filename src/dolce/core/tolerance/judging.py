"""Whether figures hold their tolerances: with their uncertainty, and "inconclusive" where that decides."""

import math
from collections import Counter
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import energy_mean_db, in_band, third_octaves_of
from dolce.core.response import average_over_spots, mean_spread_db
from dolce.core.room import RoomPlan, reference_of, sights_of
from dolce.core.subs import BAND_HZ
from dolce.core.tolerance.sets import MEAN_HZ, ToleranceSet, wanted_reverberation_s
from dolce.core.uncertainty import AGAINST_BOUND, jackknife_error, pooled_difference_error

Outcome = Literal["holds", "fails", "inconclusive"]
_DECAY_HZ = (200.0, 4000.0)
_ASKED_FROM_DB = 1.0  # of a target away from flat (our choice): for less nothing lies outside
_TILT_HZ = (200.0, 10_000.0)
# How far a loudspeaker and a seat may be off each other, each within a centimetre of where it is typed (our estimate of
# places that are taken with a tape).
_APART_OFF_M = 0.014


@dataclass(frozen=True, slots=True, kw_only=True)
class Figure:
    """One figure against its bound.

    Attributes
    ----------
    line : "response", "tilt", "seats", "level", "arrival", "angles", "decay" or "noise"
    subject : the channel, or what it is about
    value, error : in `unit`; the error is half of the interval that holds the truth in about 90 of 100 cases, so that
        a bound that lies beyond it on one side is judged rightly in 95
    low, high : bounds, of which either may be missing
    at_hz : where, of a response
    outcome : what follows
    """

    line: str
    subject: str
    unit: str
    value: float
    error: float
    low: float | None
    high: float | None
    at_hz: float | None
    outcome: Outcome


def against_bound(value: float, error: float, *, low: float | None = None, high: float | None = None) -> Outcome:
    """What a figure with its error says of bounds: a difference smaller than what can be told decides nothing.

    `error` is half of an interval that holds 90 of 100 (`uncertainty.AGAINST_BOUND`): only one side counts.

    References
    ----------
    JCGM 106:2012, "Evaluation of measurement data - The role of measurement uncertainty in conformity assessment", 8.3
    (clause from memory).
    """
    over = max(-np.inf if high is None else value - high, -np.inf if low is None else low - value)
    if over + error <= 0:
        return "holds"
    return "fails" if over - error > 0 else "inconclusive"


def judged_response(
    channel: str,
    at_hz: NDArray,
    level_db: ArrayLike,
    weights: Sequence[float],
    wanted: ToleranceSet,
    *,
    target_db: NDArray | None = None,
) -> list[Figure]:
    """The third of an octave that is furthest beyond its bound, or nearest to it, and the slope.

    Parameters
    ----------
    level_db : shape (spots, points)
    target_db : shape (points,), at any level
        Taken off before the response is held against its bounds; a slope is that of the response itself.

    Notes
    -----
    The error is that of the weighted average over the spots (`jackknife_error`); of one spot nothing can be told.
    """
    levels = np.atleast_2d(np.asarray(level_db, dtype=float))
    weight = np.asarray(weights, dtype=float)
    mids, third_octaves = third_octaves_of(at_hz, levels)
    wanted_db = np.zeros(mids.size) if target_db is None else third_octaves_of(at_hz, target_db[None])[1][0]
    middle = in_band(mids, MEAN_HZ)

    def average(rows: NDArray, off_db: NDArray | float = wanted_db) -> NDArray:
        level = energy_mean_db(third_octaves[rows], weights=weight[rows]) - off_db
        return level - level[middle].mean()

    whole = average(np.flatnonzero(weight > 0))
    found = []
    if wanted.response_hz:
        low, high = wanted.bounds_db(mids)
        error = jackknife_error(average, weight, share=AGAINST_BOUND)
        over = np.maximum(whole - high, low - whole)
        over = np.where(np.isfinite(over), over, -np.inf)
        words = [
            against_bound(v, e, low=a, high=b) if np.isfinite(a) else "holds"
            for v, e, a, b in zip(whole, error, low, high, strict=True)
        ]
        # What fails comes first, then what is inconclusive; among those the one furthest beyond.
        rank = np.array([{"fails": 2, "inconclusive": 1, "holds": 0}[word] for word in words])
        k = int(np.lexsort((over, rank))[-1])
        found.append(
            Figure(
                line="response",
                subject=channel,
                unit="dB",
                value=float(whole[k]),
                error=float(error[k]),
                low=float(low[k]),
                high=float(high[k]),
                at_hz=float(mids[k]),
                outcome=words[k],
            )
        )
    if wanted.tilt_db_per_octave is not None:
        inside = in_band(mids, _TILT_HZ)

        def slope_of(rows: NDArray) -> float:
            return float(np.polyfit(np.log2(mids[inside]), average(rows, 0.0)[inside], 1)[0])

        slope = slope_of(np.flatnonzero(weight > 0))
        slope_error = float(jackknife_error(slope_of, weight, share=AGAINST_BOUND))
        least, most = wanted.tilt_db_per_octave
        found.append(
            Figure(
                line="tilt",
                subject=channel,
                unit="dB per octave",
                value=slope,
                error=slope_error,
                low=least,
                high=most,
                at_hz=None,
                outcome=against_bound(slope, slope_error, low=least, high=most),
            )
        )
    return found


def judged_seats(
    channel: str,
    at_hz: NDArray,
    level_db: ArrayLike,
    weights: Sequence[float],
    seat_of: Sequence[Hashable],
    *,
    within_db: float,
) -> Figure | None:
    """Seat-to-seat variation of a channel's bass; None for one seat alone.

    Parameters
    ----------
    level_db : shape (spots, points)
    seat_of : seat of each spot

    Notes
    -----
    The error is that of leaving spots out; nothing is told of it where a seat has one spot.
    """
    levels = np.atleast_2d(np.asarray(level_db, dtype=float))[:, in_band(at_hz, BAND_HZ)]
    seats = tuple(dict.fromkeys(seat_of))
    if len(seats) < 2:
        return None

    def spread_of(rows: NDArray) -> float:
        by_seat = [energy_mean_db(levels[[k for k in rows if seat_of[k] == seat]]) for seat in seats]
        return mean_spread_db(at_hz[in_band(at_hz, BAND_HZ)], average_over_spots(np.array(by_seat)), band_hz=BAND_HZ)

    value = spread_of(np.arange(len(levels)))
    alone = min(Counter(seat_of).values()) < 2
    error = np.inf if alone else float(jackknife_error(spread_of, weights, share=AGAINST_BOUND))
    return Figure(
        line="seats",
        subject=channel,
        unit="dB",
        value=value,
        error=error,
        low=None,
        high=within_db,
        at_hz=None,
        outcome=against_bound(value, error, high=within_db),
    )


def judged_level(
    loudest: str, softest: str, difference_db: float, levels_db: NDArray, weights: Sequence[float], *, within_db: float
) -> Figure:
    """How far levels of channels differ.

    Parameters
    ----------
    levels_db : ndarray, shape (channels, spots)
        Of all channels at the spots where levels are matched: how they scatter there tells the error.
    """
    error = pooled_difference_error(levels_db, weights, share=AGAINST_BOUND)
    return Figure(
        line="level",
        subject=f"{loudest} and {softest}",
        unit="dB",
        value=difference_db,
        error=error,
        low=None,
        high=within_db,
        at_hz=None,
        outcome=against_bound(difference_db, error, high=within_db),
    )


def judged_arrival(latest: str, earliest: str, difference_s: float, error_s: float, *, within_s: float) -> Figure:
    """How far arrivals of channels differ at the seat; the error is that of `SeatArrivals`."""
    return Figure(
        line="arrival",
        subject=f"{latest} and {earliest}",
        unit="ms",
        value=1000 * difference_s,
        error=1000 * error_s,
        low=None,
        high=1000 * within_s,
        at_hz=None,
        outcome=against_bound(difference_s, error_s, high=within_s),
    )


def judged_angles(plan: RoomPlan) -> list[Figure]:
    """Every channel that its layout has a direction for, at the main seat by the plan.

    Where the nominal direction is itself the end of the range, as 45 degrees of the upper fronts, it holds.
    """
    sights, seat = sights_of(plan), plan.seats.index(plan.main_seat)
    found = []
    for k, speaker in enumerate(plan.speakers):
        reference = reference_of(plan.layout, speaker.channel)
        if reference is None or speaker.is_sub:
            continue
        low, high = reference.azimuth_range_deg
        value = float(sights.azimuth_deg[k, seat])
        error = math.degrees(math.atan2(_APART_OFF_M, float(sights.distance_m[k, seat])))
        nominal = abs(value - reference.azimuth_deg) <= error
        found.append(
            Figure(
                line="angles",
                subject=speaker.channel,
                unit="°",
                value=value,
                error=error,
                low=low,
                high=high,
                at_hz=None,
                outcome="holds" if nominal else against_bound(value, error, low=low, high=high),
            )
        )
    return found


def judged_reverberation(
    nominal_hz: Sequence[float], seconds: Sequence[Sequence[float]], *, volume_m3: float, within_s: float
) -> Figure | None:
    """Mean decay time from 200 Hz to 4 kHz against 0.25 (V / 100)^(1/3).

    Parameters
    ----------
    seconds : by take, each by band; NaN where it can't be told

    Returns
    -------
    Figure or None
        None where fewer than half of the bands tell anything.
    """
    at, times = np.asarray(nominal_hz, dtype=float), np.atleast_2d(np.asarray(seconds, dtype=float))
    inside = (at >= _DECAY_HZ[0] * 0.9) & (at <= _DECAY_HZ[1] * 1.1)
    band_times = times[:, inside]
    known = np.isfinite(band_times).any(axis=0)
    if known.sum() < max(1, inside.sum() / 2):
        return None
    means = np.nanmean(band_times[:, known], axis=1)
    means = means[np.isfinite(means)]
    value = float(means.mean())
    # One take scatters as its bands do; several by how they differ.
    scatter = means if means.size > 2 else np.nanmean(band_times[:, known], axis=0)
    error = float(jackknife_error(lambda rows: scatter[rows].mean(), np.ones(scatter.size), share=AGAINST_BOUND))
    wanted = wanted_reverberation_s(volume_m3)
    low, high = wanted - within_s, wanted + within_s
    return Figure(
        line="decay",
        subject="room",
        unit="s",
        value=value,
        error=error,
        low=low,
        high=high,
        at_hz=None,
        outcome=against_bound(value, error, low=low, high=high),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class AskedFor:
    """A level that lies outside of its bounds where the calibrator's own target lies that way.

    Attributes
    ----------
    target_db : of the target there, about the mean that the bounds are about
    """

    channel: str
    at_hz: float
    target_db: float


def asked_for(figures: Sequence[Figure], targets_db: Mapping[str, NDArray], *, at_hz: NDArray) -> tuple[AskedFor, ...]:
    """What lies outside because it was asked for: a bass lift is no fault of a correction that reaches it.

    Parameters
    ----------
    targets_db : target of each channel on `at_hz`; channels without one are left out
    """
    found = []
    for figure in figures:
        if figure.line != "response" or figure.outcome != "fails" or figure.at_hz is None:
            continue
        target_db = targets_db.get(figure.subject)
        if target_db is None:
            continue
        about = target_db - target_db[in_band(at_hz, MEAN_HZ)].mean()
        there = float(np.interp(figure.at_hz, at_hz, about))
        if abs(there) >= _ASKED_FROM_DB and there * figure.value > 0:
            found.append(AskedFor(channel=figure.subject, at_hz=figure.at_hz, target_db=there))
    return tuple(found)
