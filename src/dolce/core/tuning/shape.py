"""One channel as its correction shapes it, and the filters that are found for all; for pages and commands alike."""

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.correction import (
    QUICK,
    Compute,
    CorrectionPlan,
    Effort,
    Expected,
    FilterType,
    FoundConvolution,
    Headroom,
    Limits,
    Needs,
    Region,
    agreed_to_hz,
    anchored_level_db,
    convolution_curve,
    deviation_db,
    expected,
    fit_bands,
    fit_left_out,
    fit_with_fixed,
    headroom_of,
    low_frequency_extension_hz,
    plan_as_corrected,
    plan_correction,
)
from dolce.core.correction.outcome import is_closer
from dolce.core.dsp import energy_mean_db, in_band, power_db
from dolce.core.filters import BandFilter, before_main_db, chain_level_db
from dolce.core.processor import ChannelSettings, ProcessorLimits
from dolce.core.response import SpotAverage, average_over_spots
from dolce.core.room import SUB_CODES, group_of
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.correction import Band, Correction
from dolce.core.tuning.prediction import response_of, taps_of

SHAPING_PER_OCTAVE = 12.0  # smoothing of what filters are fitted to
_FAR_DB = 12.0
_SHOWN_RATE_HZ = 48_000  # at others a convolution differs by less than can be seen
AUDIBLE_TO_HZ = 16_000.0
_KEPT = slice(None)  # points of the grid that are kept of a convolution's curve


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatResponses:
    """A channel at the spots that count, before its own correction.

    Attributes
    ----------
    level_db : ndarray, shape (spots, points)
        With its trim; with what others play of it, where they do.
    weights : ndarray, shape (spots,)
    seat_of : tuple or None
        The seat of each spot; None where they stand around one.
    share : ndarray, shape (points,), or None
        How much of that is the channel's own, 0 to 1; None for all of it.
    corrected_db : ndarray, shape (spots, points), or None
        The same after the correction, where it can't be had by adding levels.
    extension_hz : float or None
        Where the loudspeaker ends, by a take close to it; None to tell it by these levels.
    """

    level_db: NDArray[np.float64]
    weights: NDArray[np.float64]
    seat_of: tuple[Hashable, ...] | None = None
    share: NDArray[np.float64] | None = None
    corrected_db: NDArray[np.float64] | None = None
    extension_hz: float | None = None

    @classmethod
    def of(
        cls, level_db: ArrayLike, weights: ArrayLike | None = None, *, seat_of: Sequence[Hashable] | None = None
    ) -> "SeatResponses":
        """Levels by spot, shape (spots, points)."""
        levels = np.asarray(level_db, dtype=float)
        return cls(
            level_db=levels,
            weights=np.ones(len(levels)) if weights is None else np.asarray(weights, dtype=float),
            seat_of=None if seat_of is None else tuple(seat_of),
        )

    @property
    def average(self) -> SpotAverage:
        return average_over_spots(self.level_db, weights=self.weights)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelShape:
    """One channel: curves in dB relative to its target's own level.

    Attributes
    ----------
    before_db, lowest_db, highest_db, predicted_db, target_db, correction_db : ndarray, shape (points,)
    level_db : float
        Level of the target (relative to the stimulus) that was taken off all curves.
    needs : Needs
        What each spot lacks.
    level_band_hz : (float, float)
        By whose mean each spot's level is told.
    share : as in `SeatResponses`
    extension_hz : float
        Where the loudspeaker ends (`low_frequency_extension_hz`), of what sounds in the channel.
    judged_hz : (float, float)
        The range without what lies below that: deviations are over it.
    """

    channel: str
    plan: CorrectionPlan
    needs: Needs
    level_db: float
    level_band_hz: tuple[float, float]
    before_db: NDArray[np.float64]
    lowest_db: NDArray[np.float64]
    highest_db: NDArray[np.float64]
    predicted_db: NDArray[np.float64]
    target_db: NDArray[np.float64]
    correction_db: NDArray[np.float64]
    bands: tuple[Band, ...]
    convolution: FoundConvolution | None
    headroom: Headroom
    before_deviation_db: float
    predicted_deviation_db: float
    extension_hz: float
    judged_hz: tuple[float, float]
    share: NDArray[np.float64] | None = None

    def agreed_to_hz(self, limits: Limits) -> float | None:
        """Up to where its spots agree, if that is within the range; None where it is beyond, or not known."""
        found = agreed_to_hz(self.plan.frequency_hz, self.needs, limits)
        return found if found is not None and found < limits.to_hz else None

    def proposed_range_hz(self, limits: Limits) -> tuple[float, float]:
        """From where the loudspeaker ends to where the spots stop agreeing, in two digits.

        Of a shape whose range is as wide as what is heard: what lies outside a range is not looked at. Ends that
        can't be told stay those of `limits`.
        """
        low = self.extension_hz
        wide = replace(limits, from_hz=min(low, limits.from_hz), to_hz=AUDIBLE_TO_HZ)
        high = agreed_to_hz(self.plan.frequency_hz, self.needs, wide) or limits.to_hz
        high = min(high, AUDIBLE_TO_HZ)
        return _two_digits(low), max(_two_digits(high), _two_digits(2 * low))

    @property
    def headroom_region(self) -> Region | None:
        """The region whose boost costs the headroom; None where nothing does."""
        return next(
            (
                s
                for s in self.plan.regions
                if self.headroom.gain_db > 0 and s.from_hz * 0.999 <= self.headroom.at_hz <= s.to_hz * 1.001
            ),
            None,
        )

    @property
    def is_corrected(self) -> bool:
        """Whether any filter of its own is on."""
        return bool(np.any(np.abs(self.effect_db) > 0))

    @property
    def ends_closer(self) -> bool:
        """Whether its filters are predicted to bring it closer to the target, by the measure of the proof."""
        return is_closer(self.before_deviation_db, self.predicted_deviation_db)

    @property
    def effect_db(self) -> NDArray[np.float64]:
        """What the correction does to what sounds, shape (points,): less than itself where others play most of it."""
        return self.predicted_db - self.before_db

    @property
    def delay_s(self) -> float:
        """By how much its convolution makes it later."""
        return 0.0 if self.convolution is None else self.convolution.delay_s(sample_rate_hz=_SHOWN_RATE_HZ)

    @property
    def sounds_before_db(self) -> float | None:
        """Energy of a convolution that sounds before its main arrival, against all of it; None for none."""
        taps = taps_of(self.convolution, sample_rate_hz=_SHOWN_RATE_HZ)
        return None if taps is None else before_main_db(taps.impulse)

    @property
    def target_off_db(self) -> float:
        """How far the target lies above the curve, mean over the band by which levels are told."""
        low, high = self.level_band_hz
        inside = in_band(self.plan.frequency_hz, (low, high))
        return float((self.target_db - self.before_db)[inside].mean())

    @property
    def target_is_far(self) -> bool:
        """Whether it lies so far off that it is a mistake: no filter reaches it."""
        return abs(self.target_off_db) > _FAR_DB


def _two_digits(value: float) -> float:
    return float(f"{value:.2g}")


def target_level_db(
    channel: str,
    level_db: NDArray,
    target_db: NDArray,
    *,
    at_hz: NDArray,
    correction: Correction,
    fronts_db: float | None = None,
) -> float:
    """Level at which a channel's target is hung, given its average with its trim; both of shape (points,).

    `fronts_db` is the level of the fronts, where the target is hung by that; a sub is level with them already, in its
    own band. What its target lifts there is made by trims (`wanted_rise_db`): filters shape, and boost nothing for it.
    """
    if correction.anchor == "hand":
        return correction.anchor_level_db
    if correction.anchor == "fronts" and fronts_db is not None and channel not in SUB_CODES:
        return fronts_db
    return anchored_level_db(at_hz, level_db, target_db, band_hz=correction.level_band_hz(channel))


def fronts_level_db(averages: Mapping[str, NDArray], correction: Correction, *, at_hz: NDArray) -> float | None:
    """Level of the fronts, each by its own band, mean in dB; None where none was taken, or targets hang otherwise.

    `averages` are levels of channels with their trims, each of shape (points,); others than fronts don't count.
    """
    if correction.anchor != "fronts":
        return None
    by_band = replace(correction, anchor="band")
    found = [
        target_level_db(name, level, correction.target_db(name, at_hz), at_hz=at_hz, correction=by_band)
        for name, level in averages.items()
        if group_of(name) == "fronts"
    ]
    return float(np.mean(found)) if found else None


def wanted_rise_db(channel: str, correction: Correction, *, at_hz: NDArray) -> float:
    """How much louder than level with the others the target wants a channel in the band where it is matched."""
    low, high = correction.level_band_hz(channel)
    if channel not in SUB_CODES or correction.anchor == "hand":
        return 0.0
    inside = in_band(at_hz, (low, high))
    return float(energy_mean_db(correction.target_db(channel, at_hz)[inside]))


def wanted_levels_db(channels: Sequence[str], correction: Correction, *, at_hz: NDArray) -> dict[str, float]:
    """By how much each channel is wanted louder than level, after a correction: what its target lifts where it is
    matched, and the offset of its group.
    """
    levels = (correction.alignment or Alignment()).levels
    return {
        channel: wanted_rise_db(channel, correction, at_hz=at_hz) + levels.offset_db(channel) for channel in channels
    }


def shape_of(
    channel: str,
    seats: SeatResponses,
    *,
    at_hz: NDArray,
    correction: Correction,
    sample_rate_hz: float,
    device: ProcessorLimits | None = None,
    target_db: NDArray | None = None,
    fronts_db: float | None = None,
) -> ChannelShape:
    """Plan, prediction and figures of one channel.

    Parameters
    ----------
    seats : SeatResponses
        At the spots that count, on `at_hz`.
    target_db : ndarray, shape (points,), optional
        In place of the correction's target.
    fronts_db : float, optional
        Level of the fronts, by which the target may be hung.
    """
    target = correction.target_db(channel, at_hz) if target_db is None else target_db
    average = seats.average
    level = target_level_db(channel, average.level_db, target, at_hz=at_hz, correction=correction, fronts_db=fronts_db)
    limits, band_hz = correction.limits_for(channel, device), correction.level_band_hz(channel)
    middle = in_band(at_hz, band_hz)
    # Each spot at its own level, all lacking on average what the energy average lacks where the target is hung.
    offset = float((target + level - average.level_db)[middle].mean())
    needs = Needs.of(
        seats.level_db,
        target,
        at_hz=at_hz,
        band_hz=band_hz,
        weights=seats.weights,
        offset_db=offset,
        seat_of=seats.seat_of,
    )
    plan = plan_correction(
        at_hz, needs, target, limits=limits, overruled=correction.overruled.get(channel, ()), share=seats.share
    )
    filters, taps = correction.filters(channel), correction.convolutions.get(channel)
    change = chain_level_db(filters, at_hz=at_hz, sample_rate_hz=sample_rate_hz) + convolved_db(taps, at_hz)
    plan = plan_as_corrected(plan, needs, change)
    before = average.level_db - level
    predicted = before + change
    if seats.corrected_db is not None:
        predicted = energy_mean_db(seats.corrected_db, weights=seats.weights) - level
    extension = seats.extension_hz or low_frequency_extension_hz(at_hz, before, is_sub=channel in SUB_CODES)
    band = judged_range_hz(limits, extension)
    return ChannelShape(
        channel=channel,
        plan=plan,
        needs=needs,
        level_db=level,
        level_band_hz=band_hz,
        before_db=before,
        lowest_db=average.lowest_db - level,
        highest_db=average.highest_db - level,
        predicted_db=predicted,
        target_db=target,
        correction_db=change,
        bands=correction.bands.get(channel, ()),
        convolution=taps,
        headroom=_headroom(filters, taps, sample_rate_hz),
        share=seats.share,
        extension_hz=extension,
        judged_hz=band,
        before_deviation_db=deviation_db(at_hz, before, target, band_hz=band),
        predicted_deviation_db=deviation_db(at_hz, predicted, target, band_hz=band),
    )


def judged_range_hz(limits: Limits, extension_hz: float) -> tuple[float, float]:
    """The range over which a deviation is told: not below where the loudspeaker ends, and half an octave at least."""
    return min(max(limits.from_hz, extension_hz), limits.to_hz / np.sqrt(2)), limits.to_hz


def convolved_db(found: FoundConvolution | None, at_hz: NDArray) -> NDArray[np.float64]:
    """Level of a convolution as its impulse response has it, shape (points,); nothing for none.

    A short one can't follow its curve where that is steep at low frequencies: what counts is what it does.
    """
    taps = taps_of(found, sample_rate_hz=_SHOWN_RATE_HZ)
    if taps is None:
        return np.zeros(at_hz.size)
    response = response_of(ChannelSettings(convolution=taps), at_hz=at_hz, sample_rate_hz=_SHOWN_RATE_HZ)
    return power_db(np.abs(response) ** 2)


def _headroom(filters: tuple[BandFilter, ...], found: FoundConvolution | None, sample_rate_hz: float) -> Headroom:
    if found is None:
        return headroom_of(filters, sample_rate_hz=sample_rate_hz)
    at_hz = np.array(found.at_hz)
    level = convolved_db(found, at_hz)
    k = int(np.argmax(level))
    return Headroom(gain_db=max(0.0, float(level[k])), at_hz=float(at_hz[k]))


def expectation_of(
    shape: ChannelShape,
    correction: Correction,
    *,
    sample_rate_hz: float,
    device: ProcessorLimits | None = None,
    range_hz: tuple[float, float] | None = None,
) -> Expected:
    """What a channel's correction does at the spots that were used, and what to expect at others."""
    limits, at_hz = correction.limits_for(shape.channel, device), shape.plan.frequency_hz
    if shape.convolution is not None:
        curve = convolution_curve(shape.plan, limits)
        moved = np.array(
            [convolution_curve(shape.plan, limits, options) - curve for options in shape.plan.without_each_db]
        )
    else:
        moved = fit_left_out(
            shape.plan, correction.filters(shape.channel), limits=limits, sample_rate_hz=sample_rate_hz, at_hz=at_hz
        )
    if shape.share is not None:
        moved = moved * shape.share
    left_out = shape.effect_db + moved.reshape(-1, at_hz.size)
    return expected(
        shape.needs,
        shape.effect_db,
        left_out,
        at_hz=at_hz,
        level_band_hz=shape.level_band_hz,
        range_hz=range_hz or (limits.from_hz, limits.to_hz),
    )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FoundFilters:
    """The correction with new filters, and how many bands of each channel would give which share of what all give."""

    correction: Correction
    fewer: Mapping[str, tuple[tuple[int, float], ...]]


def found_filters(
    channels: Mapping[str, ChannelShape],
    correction: Correction,
    *,
    sample_rate_hz: float,
    device: ProcessorLimits | None = None,
    on_progress: Callable[[float], None] | None = None,
    turned: Mapping[str, tuple[NDArray, NDArray]] | None = None,
    effort: Effort = QUICK,
    compute: Compute | None = None,
) -> FoundFilters:
    """New filters by each channel's means: one fit per channel, or one for all that are linked.

    Parameters
    ----------
    on_progress : function of a fraction, optional
        Called between steps; what it raises ends the search.
    effort : how long bands are looked for
    compute : where fits are computed (`fit_bands`)
    turned : mapping of channel to (frequencies, phases in rad), optional
        What convolutions of mixed phase undo.

    Notes
    -----
    Locked bands stay; the others are fitted beside them. Every band is one that the processor can be set to.
    """
    groups: list[list[ChannelShape]] = []
    for name, channel in channels.items():
        if all(name != shape.channel for group in groups for shape in group):
            groups.append([channel, *(channels[o] for o in correction.linked_with(name) if o in channels)])
    done: list[str] = []

    def step() -> None:
        if on_progress is not None:
            on_progress(len(done) / len(channels))

    def of(group: list[ChannelShape]) -> _OfGroup:
        step()
        found = _of_group(
            group, correction, sample_rate_hz, device, step, (turned or {}).get(group[0].channel), effort, compute
        )
        done.extend(shape.channel for shape in group)
        return found

    found = [of(group) for group in groups]
    bands: dict[str, tuple[Band, ...]] = {}
    convolutions: dict[str, FoundConvolution] = {}
    fewer: dict[str, tuple[tuple[int, float], ...]] = {}
    for group, shape in zip(groups, found, strict=True):
        names = [channel.channel for channel in group]
        if shape.convolution is not None:
            convolutions |= dict.fromkeys(names, shape.convolution)
        else:
            bands |= dict.fromkeys(names, shape.bands)
            fewer |= dict.fromkeys(names, shape.fewer)
    if on_progress is not None:
        on_progress(1.0)
    return FoundFilters(correction=replace(correction, bands=bands, convolutions=convolutions), fewer=fewer)


@dataclass(frozen=True, slots=True, kw_only=True)
class _OfGroup:
    """What was found for channels that get the same."""

    bands: tuple[Band, ...] = ()
    fewer: tuple[tuple[int, float], ...] = ()
    convolution: FoundConvolution | None = None


def _of_group(
    alike: Sequence[ChannelShape],
    correction: Correction,
    sample_rate_hz: float,
    device: ProcessorLimits | None,
    step: Callable[[], None],
    turned: tuple[NDArray, NDArray] | None,
    effort: Effort,
    compute: Compute | None,
) -> _OfGroup:
    """Filters of channels that get the same, on the mean of what they want."""
    first = alike[0]
    name = first.channel
    limits, filter_type = correction.limits_for(name, device), correction.correction_settings(name).filter_type
    plan = replace(
        first.plan,
        desired_db=np.mean([shape.plan.desired_db for shape in alike], axis=0),
        weight=np.mean([shape.plan.weight for shape in alike], axis=0),
    )
    if filter_type.method == "convolution":
        return _OfGroup(convolution=_convolution(convolution_curve(plan, limits), plan, filter_type, turned))
    locked = tuple(band for band in correction.bands.get(name, ()) if band.locked)
    bands, fewer = _bands(plan, correction, name, locked, sample_rate_hz, device, step, effort, compute)
    return _OfGroup(bands=bands, fewer=fewer)


def _bands(
    plan: CorrectionPlan,
    correction: Correction,
    name: str,
    locked: tuple[Band, ...],
    sample_rate_hz: float,
    device: ProcessorLimits | None,
    step: Callable[[], None],
    effort: Effort,
    compute: Compute | None,
) -> tuple[tuple[Band, ...], tuple[tuple[int, float], ...]]:
    """Bands of one channel by its filter type, locked ones first taken out of the desired correction."""
    limits, filter_type = correction.limits_for(name, device), correction.correction_settings(name).filter_type
    if filter_type.method == "level only":
        return (), ()
    held = chain_level_db(
        [band.filter for band in locked if band.on], at_hz=plan.frequency_hz, sample_rate_hz=sample_rate_hz
    )
    plan = replace(plan, desired_db=plan.desired_db - held)
    free: tuple[BandFilter, ...] = ()
    fewer: tuple[tuple[int, float], ...] = ()
    free_locked = sum(not band.fixed for band in locked)
    if filter_type.method != "fixed bands" and limits.bands > free_locked:
        fit = fit_bands(
            plan,
            limits=replace(limits, bands=limits.bands - free_locked),
            sample_rate_hz=sample_rate_hz,
            on_progress=step,
            effort=effort,
            compute=compute,
        )
        free, fewer = fit.filters, fit.fewer
    graphic: tuple[BandFilter, ...] = ()
    if filter_type.method in ("fixed bands", "fixed and free bands"):
        graphic, free = fit_with_fixed(
            plan,
            filter_type.fixed,
            limits=limits,
            sample_rate_hz=sample_rate_hz,
            free=free,
            held_hz=[band.filter.frequency_hz for band in locked if band.fixed],
        )
    if device is not None and device.bands:
        free = tuple(device.settable(band) for band in free)
    found = (*locked, *(Band(filter=band) for band in free), *(Band(filter=band, fixed=True) for band in graphic))
    return tuple(sorted(found, key=lambda band: (band.fixed, band.filter.frequency_hz))), fewer


def _convolution(
    level_db: NDArray, plan: CorrectionPlan, filter_type: FilterType, turned: tuple[NDArray, NDArray] | None
) -> FoundConvolution:
    hz, rad = (
        ((), ()) if turned is None or filter_type.phase != "mixed" else (tuple(delays.tolist()) for delays in turned)
    )
    return FoundConvolution(
        at_hz=tuple(np.round(plan.frequency_hz[_KEPT], 3).tolist()),
        level_db=tuple(np.round(level_db[_KEPT], 3).tolist()),
        phase=filter_type.phase,
        duration_s=filter_type.duration_s,
        before_s=filter_type.before_s,
        compensated_hz=hz,
        compensated_rad=rad,
    )
