"""One channel as its correction shapes it, and the bands that are found for all; for pages and commands alike."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import (
    CorrectionPlan,
    Headroom,
    Limits,
    anchored_level_db,
    deviation_db,
    fit_bands,
    headroom_of,
    plan_correction,
)
from dolce.core.filters import chain_level_db
from dolce.core.levels import energy_mean_db
from dolce.core.processor import ProcessorLimits
from dolce.core.response import SpotAverage
from dolce.core.room import SUB_CODES
from dolce.core.tuning.correction import Band, Correction

SHAPING_PER_OCTAVE = 12.0         # smoothing of what bands are fitted to


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelShape:
    """One channel: curves in dB relative to its target's own level.

    Attributes
    ----------
    before_db, lowest_db, highest_db, predicted_db, target_db, correction_db : ndarray, shape (points,)
    level_db : float
        Level of the target (relative to the stimulus) that was taken off all curves.
    """

    channel: str
    plan: CorrectionPlan
    level_db: float
    before_db: NDArray[np.float64]
    lowest_db: NDArray[np.float64]
    highest_db: NDArray[np.float64]
    predicted_db: NDArray[np.float64]
    target_db: NDArray[np.float64]
    correction_db: NDArray[np.float64]
    bands: tuple[Band, ...]
    headroom: Headroom
    before_deviation_db: float
    predicted_deviation_db: float


def target_level_db(channel: str, level_db: NDArray, target_db: NDArray, *, at_hz: NDArray,
                    correction: Correction) -> float:
    """Level at which a channel's target is hung, given its average with its trim; both of shape (points,)."""
    if correction.anchor == "hand":
        return correction.anchor_level_db
    if channel in SUB_CODES:
        # A sub is level with the mains already: hung by its own band, a lift of that very band would cancel itself.
        target_db = np.zeros(at_hz.size)
    return anchored_level_db(at_hz, level_db, target_db, band_hz=correction.level_band_hz(channel))


def wanted_rise_db(channel: str, correction: Correction, *, at_hz: NDArray) -> float:
    """How much louder than level with the others the target wants a channel in the band where it is matched."""
    low, high = correction.level_band_hz(channel)
    if channel not in SUB_CODES or correction.anchor == "hand":
        return 0.0
    inside = (at_hz >= low) & (at_hz <= high)
    return float(energy_mean_db(correction.target.level_db(at_hz)[inside]))


def shape_of(channel: str, average: SpotAverage, *, at_hz: NDArray, trim_db: float, correction: Correction,
             sample_rate_hz: float, device: ProcessorLimits | None = None,
             target_db: NDArray | None = None) -> ChannelShape:
    """Plan, prediction and figures of one channel.

    Parameters
    ----------
    average : SpotAverage
        Over the spots that count, on `at_hz`, shape (points,).
    target_db : ndarray, shape (points,), optional
        In place of the correction's target.
    """
    target = correction.target.level_db(at_hz) if target_db is None else target_db
    level = target_level_db(channel, average.level_db + trim_db, target, at_hz=at_hz, correction=correction)
    shift = trim_db - level
    before = average.level_db + shift
    limits = correction.limits_for(channel, device)
    plan = plan_correction(at_hz, _mean_at_level(average, at_hz, correction.level_band_hz(channel)) + shift,
                           average.spread_db, target, limits=limits, spots=average.spots)
    filters = correction.filters(channel)
    bands_db = chain_level_db(filters, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
    band = (limits.from_hz, limits.to_hz)
    return ChannelShape(
        channel=channel, plan=plan, level_db=level, before_db=before,
        lowest_db=average.lowest_db + shift, highest_db=average.highest_db + shift,
        predicted_db=before + bands_db, target_db=target, correction_db=bands_db,
        bands=correction.bands.get(channel, ()), headroom=headroom_of(filters, sample_rate_hz=sample_rate_hz),
        before_deviation_db=deviation_db(at_hz, before, target, band_hz=band),
        predicted_deviation_db=deviation_db(at_hz, before + bands_db, target, band_hz=band))


def _mean_at_level(average: SpotAverage, at_hz: NDArray, band_hz: tuple[float, float]) -> NDArray:
    """The mean over the spots in dB, brought to the level of their energy average in the band that hangs the target."""
    inside = (at_hz >= band_hz[0]) & (at_hz <= band_hz[1])
    return average.mean_db + float(np.mean((average.level_db - average.mean_db)[inside]))


def found_bands(channels: Mapping[str, ChannelShape], correction: Correction, *, sample_rate_hz: float,
                device: ProcessorLimits | None = None) -> Correction:
    """The correction with new bands: one fit per channel, or one for all that are linked.

    Every band is one that the processor can be set to.
    """
    bands: dict[str, tuple[Band, ...]] = {}
    for name, channel in channels.items():
        if name in bands:
            continue
        alike = [channel, *(channels[other] for other in correction.linked_with(name) if other in channels)]
        plan = replace(channel.plan, wished_db=np.mean([one.plan.wished_db for one in alike], axis=0),
                       weight=np.mean([one.plan.weight for one in alike], axis=0))
        found = _bands(plan, correction.limits_for(name, device), sample_rate_hz)
        if device is not None and device.bands:
            found = tuple(replace(band, filter=device.settable(band.filter)) for band in found)
        bands |= dict.fromkeys([one.channel for one in alike], found)
    return replace(correction, bands=bands)


def _bands(plan: CorrectionPlan, limits: Limits, sample_rate_hz: float) -> tuple[Band, ...]:
    return tuple(Band(filter=f) for f in fit_bands(plan, limits=limits, sample_rate_hz=sample_rate_hz))
