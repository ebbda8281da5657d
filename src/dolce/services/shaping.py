"""The Shape stop: target, limits, bands, and what they are predicted to do."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import (
    CorrectionPlan,
    Headroom,
    Limits,
    Target,
    anchored_level_db,
    deviation_db,
    fit_bands,
    headroom_of,
    plan_correction,
)
from dolce.core.filters import PeakingFilter, chain_level_db
from dolce.core.job import Job
from dolce.core.processor import ChannelSettings, ProcessorLimits
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import partner_of
from dolce.core.shape import Band, Shape
from dolce.errors import Conflict, InvalidValue
from dolce.services.aligning import chosen_settings
from dolce.services.context import Context
from dolce.services.round_curves import ChannelCurves, untouched_round
from dolce.store import UnitOfWork

NEW_BAND = PeakingFilter(frequency_hz=100.0, gain_db=-3.0, q=2.0)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelShape:
    """One channel: curves on the analysis grid in dB relative to its target's own level.

    Attributes
    ----------
    before_db, predicted_db, target_db, correction_db : ndarray, shape (points,)
    level_db : float
        Level of the target (relative to the stimulus) that was taken off all curves.
    """

    channel: str
    curves: ChannelCurves
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


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ShapeView:
    """All of the Shape stop; `channels` is empty where nothing is taken yet."""

    job: Job
    shape: Shape
    channels: dict[str, ChannelShape]
    undo: str | None
    redo: str | None
    version: str
    found: bool

    @property
    def broken(self) -> tuple[str, ...]:
        """What of the bands the processor can't hold; empty where it holds all, or none and convolves."""
        device = self.job.limits
        if device is None or not device.bands:
            return ()
        return tuple(f"{channel}: {text}" for channel in self.shape.bands
                     for text in device.broken_by_channel(ChannelSettings(filters=self.shape.filters(channel))))


def shape_or_default(work: UnitOfWork, job_id: int) -> Shape:
    return work.shapes.current(job_id) or Shape()


def target_level_db(curves: ChannelCurves, trim_db: float, target_db: NDArray, shape: Shape) -> float:
    """Level at which the target is hung for a channel, with its trim."""
    if shape.anchor == "hand":
        return shape.anchor_level_db
    return anchored_level_db(ANALYSIS_GRID_HZ, curves.average.level_db + trim_db, target_db,
                             band_hz=shape.level_band_hz(curves.channel))


def channel_shape(curves: ChannelCurves, settings: ChannelSettings, shape: Shape, *,
                  sample_rate_hz: float, device: ProcessorLimits | None = None) -> ChannelShape:
    """Plan, prediction and figures of one channel."""
    grid = ANALYSIS_GRID_HZ
    target = shape.target.level_db(grid)
    level = target_level_db(curves, settings.trim_db, target, shape)
    shift = settings.trim_db - level
    before = curves.average.level_db + shift
    limits = shape.limits_for(curves.channel, device)
    plan = plan_correction(grid, before, curves.average.spread_db, target, limits=limits)
    filters = shape.filters(curves.channel)
    correction = chain_level_db(filters, at_hz=grid, sample_rate_hz=sample_rate_hz)
    band = (limits.from_hz, limits.to_hz)
    return ChannelShape(
        channel=curves.channel, curves=curves, plan=plan, level_db=level, before_db=before,
        lowest_db=curves.average.lowest_db + shift, highest_db=curves.average.highest_db + shift,
        predicted_db=before + correction, target_db=target, correction_db=correction,
        bands=shape.bands.get(curves.channel, ()), headroom=headroom_of(filters, sample_rate_hz=sample_rate_hz),
        before_deviation_db=deviation_db(grid, before, target, band_hz=band),
        predicted_deviation_db=deviation_db(grid, before + correction, target, band_hz=band))


def found_bands(channels: dict[str, ChannelShape], shape: Shape, *, sample_rate_hz: float,
                device: ProcessorLimits | None = None) -> Shape:
    """The shape with new bands: one fit per channel, or one for both of a pair where pairs are linked.

    Every band is one that the processor can be set to.
    """
    bands: dict[str, tuple[Band, ...]] = {}
    for name, channel in channels.items():
        if name in bands:
            continue
        partner = channels.get(partner_of(name) or "") if shape.linked else None
        plan = channel.plan if partner is None else replace(
            channel.plan, wished_db=np.mean([channel.plan.wished_db, partner.plan.wished_db], axis=0),
            weight=np.mean([channel.plan.weight, partner.plan.weight], axis=0))
        found = _bands(plan, shape.limits_for(name, device), sample_rate_hz)
        if device is not None and device.bands:
            found = tuple(replace(band, filter=device.settable(band.filter)) for band in found)
        bands |= dict.fromkeys([name, *([partner.channel] if partner else [])], found)
    return replace(shape, bands=bands)


def _bands(plan: CorrectionPlan, limits: Limits, sample_rate_hz: float) -> tuple[Band, ...]:
    return tuple(Band(filter=f) for f in fit_bands(plan, limits=limits, sample_rate_hz=sample_rate_hz).filters)


class Shaping:
    """Target and bands of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> ShapeView:
        with self._context.look() as work:
            return self._view(work, job_id, shape_or_default(work, job_id))

    def shape(self, job_id: int) -> Shape:
        """Target, limits and bands as they are kept, without what follows from them."""
        with self._context.look() as work:
            work.jobs.name(job_id)
            return shape_or_default(work, job_id)

    def band(self, job_id: int, channel: str, band_id: int) -> Band:
        """One band, or NotFound."""
        return self.shape(job_id).band(channel, band_id)

    def _view(self, work: UnitOfWork, job_id: int, shape: Shape) -> ShapeView:
        job = work.jobs.get(job_id)
        base = untouched_round(work, job)
        curves = self._context.curves.of(work, base.id, job.channels) if base else {}
        settings = chosen_settings(work, job_id) or {}
        undo, redo = work.shapes.neighbours(job_id)
        channels = {name: channel_shape(c, settings.get(name, ChannelSettings()), shape, device=job.limits,
                                        sample_rate_hz=job.rig.sample_rate_hz) for name, c in curves.items()}
        return ShapeView(job=job, shape=shape, undo=undo, redo=redo, version=work.shapes.version(job_id),
                         found=bool(shape.bands), channels=channels)

    def set_aim(self, job_id: int, *, target: Target, limits: Limits, anchor: str,
                anchor_band_hz: tuple[float, float], anchor_level_db: float, linked: bool) -> None:
        """Change target, limits or link; the bands stay until they are looked for again."""
        def change(shape: Shape) -> Shape:
            changed = replace(shape, target=target, limits=limits, anchor=anchor, anchor_band_hz=anchor_band_hz,
                              anchor_level_db=anchor_level_db, linked=linked)
            if linked and not shape.linked and shape.bands:
                # The left one's bands stand for both.
                for name in sorted(shape.bands):
                    changed = changed.with_bands(name, changed.bands[name])
            return changed
        self._change(job_id, "change of target or limits", change)

    def find(self, job_id: int) -> None:
        """Look for the bands by fitting all of them together."""
        view = self.view(job_id)
        if not view.channels:
            raise Conflict("there is nothing to shape yet.", where="shape",
                           remedy="Take at least one spot with the processor bypassed.")
        rate = view.job.rig.sample_rate_hz
        shape = found_bands(view.channels, view.shape, sample_rate_hz=rate, device=view.job.limits)
        with self._context.change() as work:
            work.shapes.require(job_id, view.version)               # it may have been changed while the fit ran
            work.shapes.add(job_id, shape, what="finding filters")
            said = ", ".join(f"{name} {len(bands)} bands" for name, bands in shape.bands.items())
            work.logbook.add(job_id, f"Filters found: {said}.", at=self._context.now())
            work.jobs.touch(job_id, self._context.now())

    def edit_band(self, job_id: int, channel: str, band_id: int, filter_: PeakingFilter) -> None:
        """Change a band; InvalidValue where the processor can't be set to it."""
        device = self._device(job_id)
        if device is not None and device.bands:
            broken = device.broken_by_channel(ChannelSettings(filters=(filter_,)))
            if broken:
                raise InvalidValue(f"{broken[0].replace('band 1', 'it')}.", where="band",
                                   remedy="Choose another value.")
        self._change_band(job_id, "edit", channel, band_id, lambda shape: shape.with_band(
            channel, band_id, replace(shape.band(channel, band_id), filter=filter_)))

    def _device(self, job_id: int) -> ProcessorLimits | None:
        with self._context.look() as work:
            return work.jobs.get(job_id).limits

    def switch_band(self, job_id: int, channel: str, band_id: int, *, on: bool) -> None:
        """Switch a band on or off."""
        self._change_band(job_id, "switch", channel, band_id, lambda shape: shape.with_band(
            channel, band_id, replace(shape.band(channel, band_id), on=on)))

    def remove_band(self, job_id: int, channel: str, band_id: int) -> None:
        self._change_band(job_id, "removal", channel, band_id, lambda shape: shape.with_band(channel, band_id, None))

    def add_band(self, job_id: int, channel: str) -> None:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            job.speaker(channel)
            present = len(shape_or_default(work, job_id).bands.get(channel, ()))
        if job.limits is not None and 0 < job.limits.bands <= present:
            raise Conflict(f"{job.limits.name} has {job.limits.bands} bands per output, and they are in use.",
                           where="bands", remedy="Remove one first.")
        self._change(job_id, f"new band, {channel}", lambda shape: shape.with_bands(
            channel, (*shape.bands.get(channel, ()), Band(filter=NEW_BAND))))

    def undo(self, job_id: int, *, seen: str = "") -> None:
        """One step back; Outdated where the shape is no longer the one that was seen."""
        with self._context.change() as work:
            work.shapes.require(job_id, seen)
            work.shapes.undo(job_id)

    def redo(self, job_id: int, *, seen: str = "") -> None:
        """One step forward; errors as above."""
        with self._context.change() as work:
            work.shapes.require(job_id, seen)
            work.shapes.redo(job_id)

    def _change_band(self, job_id: int, what: str, channel: str, band_id: int,
                     change: Callable[[Shape], Shape]) -> None:
        """A change of one band, told by its place in the row as people count."""
        number = self.shape(job_id).place_of_band(channel, band_id) + 1
        self._change(job_id, f"{what} of band {number}, {channel}", change)

    def _change(self, job_id: int, what: str, change: Callable[[Shape], Shape]) -> None:
        with self._context.change() as work:
            work.jobs.get(job_id)
            if work.shapes.current(job_id) is None:
                work.shapes.add(job_id, Shape(), what="start")
            before = shape_or_default(work, job_id)
            after = change(before)
            if after != before:
                work.shapes.add(job_id, after, what=what)
                work.jobs.touch(job_id, self._context.now())
