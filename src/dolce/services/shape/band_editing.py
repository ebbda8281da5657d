"""Bands changed by hand."""

from collections.abc import Callable
from dataclasses import replace

from dolce.core.filters import BandFilter
from dolce.core.processor import ChannelSettings, ProcessorLimits
from dolce.core.tuning import Band, Correction
from dolce.errors import Conflict, InvalidValue, NotFound
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.scopes import Scope, in_scope
from dolce.services.shape.shaping import ShapeView, Shaping
from dolce.words.unsupported import unsupported_words

NEW_BAND = BandFilter(frequency_hz=100.0, gain_db=-3.0, q=2.0)


class BandEditing:
    """The bands of a correction, one by one; each change can be undone."""

    def __init__(self, context: Context, shaping: Shaping) -> None:
        self._context = context
        self._shaping = shaping

    def band(self, job_id: int, channel: str, band_id: int) -> Band:
        """One band, or NotFound."""
        return self._shaping.correction(job_id).band(channel, band_id)

    def edit(self, job_id: int, channel: str, band_id: int, filter_: BandFilter) -> None:
        """Change a band; InvalidValue where the processor can't be set to it.

        One of a graphic equaliser keeps its frequency and Q, moves in its steps, and is locked: the others are solved
        around it.
        """
        correction = self._shaping.correction(job_id)
        present = correction.band(channel, band_id)
        if present.fixed:
            gain_db = correction.correction_settings(channel).filter_type.fixed.on_step(filter_.gain_db)
            held = replace(present, filter=replace(present.filter, gain_db=gain_db), locked=True)
            self._change(job_id, "edit", channel, band_id, lambda c: c.with_band(channel, band_id, held))
            return
        device = self._device(job_id)
        if device is not None and device.bands:
            broken = device.broken_by_channel(ChannelSettings(filters=(filter_,)))
            if broken:
                raise InvalidValue(
                    f"{unsupported_words(broken[0], band='it')}.", where="band", remedy="Choose another value."
                )
        self._change(
            job_id,
            "edit",
            channel,
            band_id,
            lambda correction: correction.with_band(
                channel, band_id, replace(correction.band(channel, band_id), filter=filter_)
            ),
        )

    def preview(self, job_id: int, channel: str, band_id: int, filter_: BandFilter) -> ShapeView:
        """The view as it would be with another band; nothing is kept.

        Raises
        ------
        NotFound
            Where the band is gone.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            changed = correction.with_band(channel, band_id, replace(correction.band(channel, band_id), filter=filter_))
            base = base_round(work, job, kept=correction.round_id)
            shape, spots = self._shaping.shape(work, job, changed, base.id, channel) if base else (None, ())
        if shape is None:
            raise NotFound(f"{channel} can't be shaped.", where="shape", remedy="Reload the page.")
        return ShapeView(
            job=job,
            correction=changed,
            names=(channel,),
            shape=shape,
            spots=spots,
            absent=(),
            not_summed=(),
            undo=None,
            redo=None,
            version="",
            found=True,
            round=base,
            rounds=(),
            seat_weightings=(),
            moved_on=False,
            moved=(),
            search=None,
        )

    def snapped(self, job_id: int, filter_: BandFilter) -> BandFilter:
        """A band on the steps in which people type, and on those of the processor."""
        typed = filter_.rounded()
        device = self._device(job_id)
        return device.settable(typed) if device is not None and device.bands else typed

    def lock(self, job_id: int, channel: str, band_id: int, *, locked: bool) -> None:
        """Lock a band, so that it stays when filters are found again, or unlock it."""
        self._change(
            job_id,
            "lock",
            channel,
            band_id,
            lambda correction: correction.with_band(
                channel, band_id, replace(correction.band(channel, band_id), locked=locked)
            ),
        )

    def switch(self, job_id: int, channel: str, band_id: int, *, on: bool) -> None:
        """Switch a band on or off."""
        self._change(
            job_id,
            "switch",
            channel,
            band_id,
            lambda correction: correction.with_band(
                channel, band_id, replace(correction.band(channel, band_id), on=on)
            ),
        )

    def remove(self, job_id: int, channel: str, band_id: int) -> None:
        self._change(job_id, "removal", channel, band_id, lambda c: c.with_band(channel, band_id, None))

    def add(self, job_id: int, channel: str) -> None:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            job.speaker(channel)
            correction = present_correction(work, job)
            present = len(correction.bands.get(channel, ()))
        if channel in correction.convolutions:
            raise Conflict(
                f"{channel} is corrected by a convolution.",
                where="bands",
                remedy="Choose bands as its means and find filters again.",
            )
        if job.limits is not None and 0 < job.limits.bands <= present:
            raise Conflict(
                f"{job.limits.name} has {job.limits.bands} bands per output, and they are in use.",
                where="bands",
                remedy="Remove one first.",
            )
        self._shaping.change(
            job_id,
            f"new band, {channel}",
            lambda correction: correction.with_bands(
                channel, (*correction.bands.get(channel, ()), Band(filter=NEW_BAND))
            ),
        )

    def copy(self, job_id: int, channel: str, *, to: Scope) -> None:
        """Give a channel's bands to its partner, or to all of its group."""
        others = [name for name in in_scope(self._context, job_id, to, channel) if name != channel]
        if not others:
            raise Conflict(f"{channel} has no such others.", where="bands", remedy="Copy them by hand.")
        self._shaping.change(
            job_id, f"bands of {channel} for {', '.join(others)}", lambda c: c.with_copies(channel, others)
        )

    def _device(self, job_id: int) -> ProcessorLimits | None:
        with self._context.look() as work:
            return work.jobs.get(job_id).limits

    def _change(
        self, job_id: int, what: str, channel: str, band_id: int, change: Callable[[Correction], Correction]
    ) -> None:
        """A change of one band, told by its place in the row as people count."""
        number = self._shaping.correction(job_id).place_of_band(channel, band_id) + 1
        self._shaping.change(job_id, f"{what} of band {number}, {channel}", change)
