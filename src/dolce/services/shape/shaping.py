"""The Shape stop: target, limits, bands, and what they are predicted to do."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from numpy.typing import ArrayLike

from dolce.core.alignment import TRIM_STEP_DB, level_band_hz, mid_level_db
from dolce.core.correction import (
    Limits,
    Target,
)
from dolce.core.filters import PeakingFilter, chain_level_db
from dolce.core.job import Job, Round
from dolce.core.levels import energy_mean_db
from dolce.core.processor import ChannelSettings, Misfit, ProcessorLimits
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import (
    Alignment,
    Band,
    Blend,
    ChannelShape,
    Correction,
    blends_of,
    found_bands,
    levelled_again,
    settings_of,
    shape_of,
    wanted_rise_db,
)
from dolce.errors import Conflict, InvalidValue
from dolce.services.align.predicted import subs_as_one
from dolce.services.align.readings import level_weights, moved_words
from dolce.services.context import Context
from dolce.services.load.misfit_words import misfit_words
from dolce.services.read.round_curves import ChannelCurves, base_round, spot_weights, usual_blend
from dolce.store import UnitOfWork

NEW_BAND = PeakingFilter(frequency_hz=100.0, gain_db=-3.0, q=2.0)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ShapeView:
    """All of the Shape stop; `channels` is empty where nothing is taken yet.

    Attributes
    ----------
    spots : ids of those over which each channel is averaged
    round : the one that the correction starts from
    rounds : those that it could start from
    blends : seats that it could be for
    moved_on : whether the alignment is no longer the one that the bands stand on
    moved : what stood at several places while the round was taken, in words
    """

    job: Job
    correction: Correction
    channels: dict[str, ChannelShape]
    spots: dict[str, tuple[int, ...]]
    undo: str | None
    redo: str | None
    version: str
    found: bool
    round: Round | None
    rounds: tuple[Round, ...]
    blends: tuple[Blend, ...]
    moved_on: bool
    moved: tuple[str, ...]

    @property
    def broken(self) -> tuple[Misfit, ...]:
        """What of the bands the processor can't hold; empty where it holds all, or none and convolves."""
        device = self.job.limits
        if device is None or not device.bands:
            return ()
        return tuple(replace(one, channel=channel) for channel in self.correction.bands
                     for one in device.broken_by_channel(ChannelSettings(filters=self.correction.filters(channel))))


def present_correction(work: UnitOfWork, job: Job) -> Correction:
    """The correction of a job; before the first one, what it would start from, stand on and be for."""
    kept = work.corrections.current(job.id)
    if kept is not None and kept.round_id is not None:
        return kept
    alignment = work.alignments.current(job.id)
    base = base_round(work, job, kept=alignment.round_id if alignment else None)
    return replace(kept or Correction(), round_id=base.id if base else None, alignment=alignment,
                   blend=kept.blend if kept is not None and kept.blend.weights else usual_blend(job))


class Shaping:
    """Target and bands of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> ShapeView:
        with self._context.look() as work:
            return self._view(work, job_id)

    def correction(self, job_id: int) -> Correction:
        """The correction as it is kept, without what follows from it."""
        with self._context.look() as work:
            return present_correction(work, work.jobs.get(job_id))

    def band(self, job_id: int, channel: str, band_id: int) -> Band:
        """One band, or NotFound."""
        return self.correction(job_id).band(channel, band_id)

    def _view(self, work: UnitOfWork, job_id: int, *, on: Alignment | None = None) -> ShapeView:
        """As it is kept, or as it would be `on` another alignment."""
        job = work.jobs.get(job_id)
        correction = present_correction(work, job)
        if on is not None:
            correction = replace(correction, alignment=on)
        base = base_round(work, job, kept=correction.round_id)
        curves = self._curves(work, job, correction, base.id) if base else {}
        undo, redo = work.corrections.neighbours(job_id)
        alignment = correction.alignment or Alignment()
        channels = {name: shape_of(name, c.average, at_hz=ANALYSIS_GRID_HZ, correction=correction,
                                   trim_db=settings_of(alignment, correction, name).trim_db, device=job.limits,
                                   sample_rate_hz=job.rig.sample_rate_hz)
                    for name, c in curves.items()}
        found = bool(correction.bands)
        return ShapeView(
            job=job, correction=correction, undo=undo, redo=redo, version=work.corrections.version(job_id),
            found=found, channels=channels, round=base, blends=tuple(blends_of(job.plan)),
            spots={name: tuple(take.spot_id for take in c.takes) for name, c in curves.items()},
            rounds=tuple(r for r in work.takes.rounds(job_id) if r.bypassed),
            moved_on=found and not correction.stands_on(work.alignments.current(job_id)),
            moved=moved_words(work, job, base.id) if base else ())

    def _curves(self, work: UnitOfWork, job: Job, correction: Correction, round_id: int) -> dict[str, ChannelCurves]:
        """Every channel over the seats that the correction is for; subs that are one as one."""
        curves = subs_as_one(self._context, work, job, correction.alignment, round_id=round_id,
                             curves=self._context.curves.of(work, round_id))
        weights = spot_weights(job, correction.blend)
        found = {channel: curves[channel].blended(weights) for channel in job.channels if channel in curves}
        return {channel: one for channel, one in found.items() if one is not None}

    def set_aim(self, job_id: int, *, target: Target, limits: Limits, anchor: str,
                anchor_band_hz: tuple[float, float], anchor_level_db: float, linked: bool) -> None:
        """Change target, limits or link; the bands stay until they are looked for again."""
        def change(correction: Correction) -> Correction:
            changed = replace(correction, target=target, limits=limits, anchor=anchor, anchor_band_hz=anchor_band_hz,
                              anchor_level_db=anchor_level_db, linked=linked)
            if linked and not correction.linked and correction.bands:
                # The left one's bands stand for both.
                for name in sorted(correction.bands):
                    changed = changed.with_bands(name, changed.bands[name])
            return changed
        self._change(job_id, "change of target or limits", change)

    def set_blend(self, job_id: int, blend: Blend) -> None:
        """For whom the correction is; the bands stay until they are looked for again."""
        self._change(job_id, f"blend {blend.name}", lambda c: replace(c, blend=blend))

    def start_from(self, job_id: int, round_id: int) -> None:
        """Start from another round; the bands stay until they are looked for again."""
        with self._context.look() as work:
            chosen = next((r for r in work.takes.rounds(job_id) if r.id == round_id), None)
        if chosen is None or not chosen.bypassed:
            raise Conflict("that round was not taken with the processor bypassed.", where="round",
                           remedy="Choose one of the list.")
        self._change(job_id, f"start from {chosen.name}", lambda c: replace(c, round_id=round_id))

    def stand_on_present(self, job_id: int) -> None:
        """Let the bands stand on the alignment as it is now."""
        with self._context.look() as work:
            alignment = work.alignments.current(job_id)
        self._change(job_id, "standing on the present alignment", lambda c: replace(c, alignment=alignment))

    def find(self, job_id: int) -> None:
        """Look for the bands by fitting all of them together; they stand on the alignment as it is now."""
        with self._context.look() as work:
            alignment = work.alignments.current(job_id)
            view, seen = self._view(work, job_id, on=alignment), work.corrections.version(job_id)
            start = present_correction(work, work.jobs.get(job_id))
        if not view.channels:
            raise Conflict("there is nothing to shape yet.", where="shape",
                           remedy="Take at least one spot of a seat that counts with the processor bypassed.")
        rate = view.job.rig.sample_rate_hz
        correction = found_bands(view.channels, view.correction, sample_rate_hz=rate, device=view.job.limits)
        correction = replace(correction, alignment=alignment)
        with self._context.change() as work:
            work.corrections.require(job_id, seen)               # it may have been changed while the fit ran
            if work.corrections.current(job_id) is None:
                work.corrections.add(job_id, start, what="start")        # to go back to by undo
            work.corrections.add(job_id, self._levelled(work, view.job, correction), what="finding filters")
            said = ", ".join(f"{name} {len(bands)} bands" for name, bands in correction.bands.items())
            work.logbook.add(job_id, f"Filters found for {correction.blend.name}, from round {view.round.name}: "
                                     f"{said}.", at=self._context.now())
            work.jobs.touch(job_id, self._context.now())

    def _levelled(self, work: UnitOfWork, job: Job, correction: Correction) -> Correction:
        """The correction with trims that make up for what its bands change where channels are matched."""
        if correction.alignment is None or correction.round_id is None:
            return replace(correction, trims_db={})
        weights = level_weights(job, correction.alignment.blend)
        alone = self._context.curves.of(work, correction.round_id)
        curves = subs_as_one(self._context, work, job, correction.alignment, round_id=correction.round_id, curves=alone)
        change = {}
        for speaker in job.speakers:
            at_seat = curves[speaker.channel].blended(weights) if speaker.channel in curves else None
            if at_seat is not None and speaker.channel in correction.alignment.channels:
                # As finely as takes are kept: sharp bands on a steep response change less than its smoothed curve says.
                own = curves[speaker.channel] is alone.get(speaker.channel)
                change[speaker.channel] = _level_change_db(
                    [take.level_db for take in at_seat.takes] if own else at_seat.level_db,
                    [weights[take.spot_id] for take in at_seat.takes], correction.filters(speaker.channel),
                    is_sub=speaker.is_sub, rate=job.rig.sample_rate_hz) - wanted_rise_db(
                        speaker.channel, correction, at_hz=ANALYSIS_GRID_HZ)
        step = max(TRIM_STEP_DB, job.limits.trim_step_db) if job.limits else TRIM_STEP_DB
        return replace(correction, trims_db=levelled_again(change, step_db=step))

    def edit_band(self, job_id: int, channel: str, band_id: int, filter_: PeakingFilter) -> None:
        """Change a band; InvalidValue where the processor can't be set to it."""
        device = self._device(job_id)
        if device is not None and device.bands:
            broken = device.broken_by_channel(ChannelSettings(filters=(filter_,)))
            if broken:
                raise InvalidValue(f"{misfit_words(broken[0], band='it')}.", where="band",
                                   remedy="Choose another value.")
        self._change_band(job_id, "edit", channel, band_id, lambda correction: correction.with_band(
            channel, band_id, replace(correction.band(channel, band_id), filter=filter_)))

    def _device(self, job_id: int) -> ProcessorLimits | None:
        with self._context.look() as work:
            return work.jobs.get(job_id).limits

    def switch_band(self, job_id: int, channel: str, band_id: int, *, on: bool) -> None:
        """Switch a band on or off."""
        self._change_band(job_id, "switch", channel, band_id, lambda correction: correction.with_band(
            channel, band_id, replace(correction.band(channel, band_id), on=on)))

    def remove_band(self, job_id: int, channel: str, band_id: int) -> None:
        self._change_band(job_id, "removal", channel, band_id, lambda c: c.with_band(channel, band_id, None))

    def add_band(self, job_id: int, channel: str) -> None:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            job.speaker(channel)
            present = len(present_correction(work, job).bands.get(channel, ()))
        if job.limits is not None and 0 < job.limits.bands <= present:
            raise Conflict(f"{job.limits.name} has {job.limits.bands} bands per output, and they are in use.",
                           where="bands", remedy="Remove one first.")
        self._change(job_id, f"new band, {channel}", lambda correction: correction.with_bands(
            channel, (*correction.bands.get(channel, ()), Band(filter=NEW_BAND))))

    def undo(self, job_id: int, *, seen: str = "") -> None:
        """One step back; Outdated where the shape is no longer the one that was seen."""
        with self._context.change() as work:
            work.corrections.undo(job_id, seen=seen)

    def redo(self, job_id: int, *, seen: str = "") -> None:
        """One step forward; errors as above."""
        with self._context.change() as work:
            work.corrections.redo(job_id, seen=seen)

    def _change_band(self, job_id: int, what: str, channel: str, band_id: int,
                     change: Callable[[Correction], Correction]) -> None:
        """A change of one band, told by its place in the row as people count."""
        number = self.correction(job_id).place_of_band(channel, band_id) + 1
        self._change(job_id, f"{what} of band {number}, {channel}", change)

    def _change(self, job_id: int, what: str, change: Callable[[Correction], Correction]) -> None:
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            before = present_correction(work, job)
            if work.corrections.current(job_id) is None:
                work.corrections.add(job_id, before, what="start")
            after = self._levelled(work, job, change(before))
            if after != before:
                work.corrections.add(job_id, after, what=what)
                work.jobs.touch(job_id, self._context.now())


def _level_change_db(level_db: ArrayLike, weights: Sequence[float], filters: tuple[PeakingFilter, ...], *,
                     is_sub: bool, rate: int) -> float:
    """What bands change of a channel's level in the band where it is matched; levels of shape (spots, points)."""
    level = energy_mean_db(level_db, weights=weights)
    band = level_band_hz(is_sub=is_sub)
    bands = chain_level_db(filters, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate)
    return mid_level_db(ANALYSIS_GRID_HZ, level + bands, band_hz=band) - mid_level_db(
        ANALYSIS_GRID_HZ, level, band_hz=band)
