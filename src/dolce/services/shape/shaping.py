"""The Shape stop: target, limits and seats of a correction, and what it is predicted to do."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from dolce.core.cache import Cache
from dolce.core.correction import Expected, Overruled, Preference
from dolce.core.job import Job, Round
from dolce.core.processor import UnsupportedSetting
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import group_of
from dolce.core.tuning import (
    Alignment,
    ChannelShape,
    Correction,
    CorrectionSettings,
    SeatResponses,
    SeatWeighting,
    expectation_of,
    fronts_level_db,
    seat_weightings_of,
    settings_of,
    shape_of,
    spot_weights,
)
from dolce.core.tuning.correction import Anchor
from dolce.core.tuning.filter_curves import FilterCurves, filter_curves
from dolce.errors import Conflict, InvalidValue
from dolce.services.align.readings import moved_words
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.filter_searches import FilterSearch, FilterSearches
from dolce.services.shape.levelling import levelled
from dolce.services.shape.present_correction import present_correction
from dolce.services.shape.scopes import Scope, in_scope
from dolce.services.shape.seat_responses import feed_of, heard_of, shaped_channels, unsummed
from dolce.store import UnitOfWork

_KEPT_EXPECTATIONS, _KEPT_RESPONSES = 256, 64


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ShapeView:
    """The Shape stop with one channel in front; `names` is empty where nothing is taken yet.

    Attributes
    ----------
    names : channels that can be shaped
    shape : the channel in front
    spots : ids of those over which it is averaged
    absent : seats of the seat weighting at which it was not taken
    not_summed : spots at which the channel and what plays its bass can't be added up, and what lacks there, in words
    round : the one that the correction starts from
    rounds : those that it could start from
    seat_weightings : seats that it could be for
    moved_on : whether the alignment is no longer the one that the bands stand on
    moved : what stood at several places while the round was taken, in words
    search : the last search of filters
    searching : whether it ran when this was looked up: what it finds meanwhile is not in here
    """

    job: Job
    correction: Correction
    names: tuple[str, ...]
    shape: ChannelShape | None
    spots: tuple[int, ...]
    absent: tuple[str, ...]
    not_summed: tuple[str, ...]
    undo: str | None
    redo: str | None
    version: str
    found: bool
    round: Round | None
    rounds: tuple[Round, ...]
    seat_weightings: tuple[SeatWeighting, ...]
    moved_on: bool
    moved: tuple[str, ...]
    search: FilterSearch | None
    searching: bool = False

    @property
    def filter_curves(self) -> FilterCurves | None:
        """What the filters of the channel in front do by themselves, as the processor will play them."""
        if self.shape is None or not self.found:
            return None
        rate_hz = self.job.rig.sample_rate_hz
        settings = settings_of(
            Alignment(), self.correction, self.shape.channel, sample_rate_hz=rate_hz, device=self.job.limits
        )
        return filter_curves(settings, at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=rate_hz)

    @property
    def broken(self) -> tuple[UnsupportedSetting, ...]:
        """What of the filters the processor can't hold; empty where it holds all, or is not known."""
        device = self.job.limits
        if device is None:
            return ()
        return tuple(
            replace(unsupported, channel=channel)
            for channel in self.correction.channels
            for unsupported in device.broken_by_channel(
                settings_of(
                    Alignment(),
                    replace(self.correction, trims_db={}),
                    channel,
                    sample_rate_hz=self.job.rig.sample_rate_hz,
                )
            )
        )


class Shaping:
    """Target, limits and seats of a job's correction, and what it is predicted to do."""

    def __init__(self, context: Context, searches: FilterSearches) -> None:
        self._context = context
        self._searches = searches
        self._expected: Cache[tuple, tuple[Expected | None]] = Cache(_KEPT_EXPECTATIONS)
        self._seat_responses: Cache[tuple[int, str], tuple[tuple, SeatResponses]] = Cache(_KEPT_RESPONSES)
        self._no_closer: Cache[tuple, tuple[str, ...]] = Cache(_KEPT_EXPECTATIONS)

    def view(self, job_id: int, channel: str = "") -> ShapeView:
        """With a channel in front; the first where it has none such."""
        search = self._searches.of(job_id)
        searching = search is not None and not search.done
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            names = shaped_channels(self._context, work, job, correction, base.id) if base else []
            channel = channel if channel in names else next(iter(names), "")
            shape, spots = self.shape(work, job, correction, base.id, channel) if base and channel else (None, ())
            undo, redo = work.corrections.neighbours(job_id)
            return ShapeView(
                job=job,
                correction=correction,
                names=tuple(names),
                shape=shape,
                spots=spots,
                absent=_missing(job, correction, spots) if shape else (),
                undo=undo,
                redo=redo,
                not_summed=()
                if not (base and channel)
                else _not_summed(job, unsummed(work, job, correction, base.id, channel)),
                version=work.corrections.version(job_id),
                found=correction.found,
                round=base,
                seat_weightings=tuple(seat_weightings_of(job.plan)),
                rounds=tuple(r for r in work.takes.rounds(job_id) if r.bypassed),
                moved_on=correction.found and not correction.stands_on(work.alignments.current(job_id)),
                moved=moved_words(work, job, base.id) if base else (),
                search=search,
                searching=searching,
            )

    def shapes(self, job_id: int) -> dict[str, ChannelShape]:
        """Every channel that can be shaped."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            return self._shapes(work, job, correction, base.id) if base else {}

    def no_closer(self, job_id: int) -> tuple[str, ...]:
        """Channels that the present filters are predicted to leave no closer to their targets than they are."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            if not present_correction(work, job).found:
                return ()
            rests_on = (
                job_id,
                job.changed_at,
                work.takes.stamp_of_job(job_id),
                work.corrections.version(job_id),
                work.alignments.version(job_id),
            )
        return self._no_closer.get_or(
            rests_on,
            lambda: tuple(
                name for name, shape in self.shapes(job_id).items() if shape.is_corrected and not shape.ends_closer
            ),
        )

    def _shapes(self, work: UnitOfWork, job: Job, correction: Correction, round_id: int) -> dict[str, ChannelShape]:
        found = {
            name: self.shape(work, job, correction, round_id, name)[0]
            for name in shaped_channels(self._context, work, job, correction, round_id)
        }
        return {name: shape for name, shape in found.items() if shape is not None}

    def shape(
        self, work: UnitOfWork, job: Job, correction: Correction, round_id: int, channel: str
    ) -> tuple[ChannelShape | None, tuple[int, ...]]:
        """One channel, and the spots it is averaged over."""
        found = self.seat_responses(work, job, correction, round_id, channel)
        if found is None:
            return None, ()
        seats, spots = found
        return shape_of(
            channel,
            seats,
            at_hz=ANALYSIS_GRID_HZ,
            correction=correction,
            device=job.limits,
            sample_rate_hz=job.rig.sample_rate_hz,
            fronts_db=self._fronts_db(work, job, correction, round_id),
        ), spots

    def seat_responses(
        self, work: UnitOfWork, job: Job, correction: Correction, round_id: int, channel: str
    ) -> tuple[SeatResponses, tuple[int, ...]] | None:
        """What a channel sounds like before its correction, and at which spots; None where it was not taken."""
        rests_on = _rests_on(job, work.takes.newest(round_id), correction, channel)
        known = self._seat_responses.get((job.id, channel))
        found = heard_of(
            self._context,
            work,
            job,
            correction,
            round_id,
            channel,
            before=known[1] if known is not None and known[0] == rests_on else None,
        )
        if found is None:
            return None
        seats = found[0]
        if seats.share is not None:
            self._seat_responses.add((job.id, channel), (rests_on, seats))
        return found

    def _fronts_db(self, work: UnitOfWork, job: Job, correction: Correction, round_id: int) -> float | None:
        """Level of the fronts, each by its own band, where the target is hung by that."""
        if correction.anchor != "fronts":
            return None
        names = shaped_channels(self._context, work, job, correction, round_id)
        found = {
            name: self.seat_responses(work, job, correction, round_id, name)
            for name in names
            if group_of(name) == "fronts"
        }
        return fronts_level_db(
            {name: pair[0].average.level_db for name, pair in found.items() if pair is not None},
            correction,
            at_hz=ANALYSIS_GRID_HZ,
        )

    def correction(self, job_id: int) -> Correction:
        """The correction as it is kept, without what follows from it."""
        with self._context.look() as work:
            return present_correction(work, work.jobs.get(job_id))

    def expected(self, job_id: int, channel: str) -> Expected | None:
        """What a channel's correction is worth at spots that were not measured; None where it has none."""
        with self._context.look() as work:
            job, version = work.jobs.get(job_id), work.corrections.version(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            if base is None or not correction.found:
                return None
            key = (job_id, version, channel, work.takes.newest(base.id))

            def found() -> tuple[Expected | None]:
                shape, _ = self.shape(work, job, correction, base.id, channel)
                return (
                    None
                    if shape is None
                    else expectation_of(shape, correction, sample_rate_hz=job.rig.sample_rate_hz, device=job.limits),
                )

            return self._expected.get_or(key, found)[0]

    def set_correction(
        self,
        job_id: int,
        *,
        correction_settings: CorrectionSettings,
        anchor: Anchor,
        anchor_band_hz: tuple[float, float],
        anchor_level_db: float,
        linked: bool,
        preference: Preference | None,
        scope: Scope = "all",
        channel: str = "",
    ) -> None:
        """Change target, limits, means, preference or link; the filters stay until they are looked for again.

        Parameters
        ----------
        scope, channel : whose aim it is: that of all channels, of the group of one, or its own

        Raises
        ------
        InvalidValue
            Where the processor can't convolve that long.
        """
        self._held_by_device(job_id, correction_settings)
        kept = replace(self.correction(job_id), linked=linked)
        # Channels that get the same filters have the same aim.
        of = tuple(
            dict.fromkeys(
                name
                for scoped in in_scope(self._context, job_id, scope, channel)
                for name in (scoped, *kept.linked_with(scoped))
            )
        )

        def change(correction: Correction) -> Correction:
            changed = replace(
                correction,
                anchor=anchor,
                anchor_band_hz=anchor_band_hz,
                preference=preference,
                anchor_level_db=anchor_level_db,
                linked=linked,
            )
            changed = (
                replace(changed, by_channel={**correction.by_channel, **dict.fromkeys(of, correction_settings)})
                if of
                else replace(
                    changed,
                    target=correction_settings.target,
                    limits=correction_settings.limits,
                    filter_type=correction_settings.filter_type,
                    by_channel={},
                )
            )
            return changed.with_pairs_alike() if linked and not correction.linked else changed

        self.change(job_id, "change of target or limits", change)

    def set_count(self, job_id: int, channel: str, count: int) -> None:
        """Let a channel, and its partner where pairs are linked, have so many filters at most.

        Raises
        ------
        InvalidValue
            If the number is out of range.
        """

        def change(correction: Correction) -> Correction:
            correction_settings = correction.correction_settings(channel)
            correction_settings = replace(correction_settings, limits=replace(correction_settings.limits, bands=count))
            return replace(
                correction,
                by_channel={
                    **correction.by_channel,
                    **dict.fromkeys((channel, *correction.linked_with(channel)), correction_settings),
                },
            )

        self.change(job_id, f"{count} filters for {channel}", change)

    def overrule(self, job_id: int, channel: str, overruling: Overruled) -> None:
        """Give a region a verdict of one's own; what was overruled there before gives way."""
        self.change(
            job_id,
            f"verdict for {overruling.from_hz:.0f} to {overruling.to_hz:.0f} Hz of {channel}",
            lambda c: c.overruling(channel, overruling),
        )

    def follow_evidence(self, job_id: int, channel: str, at_hz: float) -> None:
        """Take back what was overruled at a frequency."""
        self.change(
            job_id,
            f"verdict at {at_hz:.0f} Hz of {channel} follows the evidence again",
            lambda c: c.following_evidence(channel, at_hz),
        )

    def set_seat_weighting(self, job_id: int, seat_weighting: SeatWeighting) -> None:
        """For whom the correction is; the bands stay until they are looked for again."""
        self.change(
            job_id, f"seat weighting {seat_weighting.name}", lambda c: replace(c, seat_weighting=seat_weighting)
        )

    def start_from(self, job_id: int, round_id: int) -> None:
        """Start from another round; the bands stay until they are looked for again."""
        with self._context.look() as work:
            chosen = next((r for r in work.takes.rounds(job_id) if r.id == round_id), None)
        if chosen is None or not chosen.bypassed:
            raise Conflict(
                "that round was not taken with the processor bypassed.", where="round", remedy="Choose one of the list."
            )
        self.change(job_id, f"start from {chosen.name}", lambda c: replace(c, round_id=round_id))

    def stand_on_present(self, job_id: int) -> None:
        """Let the bands stand on the alignment as it is now."""
        with self._context.look() as work:
            alignment = work.alignments.current(job_id)
        self.change(job_id, "standing on the present alignment", lambda c: replace(c, alignment=alignment))

    def _held_by_device(self, job_id: int, correction_settings: CorrectionSettings) -> None:
        """InvalidValue where a convolution is longer than the processor holds at the rig's rate."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        device, rate = job.limits, job.rig.sample_rate_hz
        if correction_settings.filter_type.method != "convolution" or device is None:
            return
        longest = device.longest_convolution_s(sample_rate_hz=rate)
        if not longest:
            raise InvalidValue(
                f"{device.name} does not convolve.",
                where="method",
                remedy="Correct by bands, or type its taps on the Rig page.",
            )
        if correction_settings.filter_type.duration_s > longest + 0.5 / rate:
            raise InvalidValue(
                f"{device.name} holds {device.taps} taps, {1000 * longest:.0f} ms at {rate} Hz.",
                where="length",
                remedy="Shorten it.",
            )

    def undo(self, job_id: int, *, seen: str = "") -> None:
        """One step back; Outdated where the shape is no longer the one that was seen."""
        with self._context.change() as work:
            work.corrections.undo(job_id, seen=seen)

    def redo(self, job_id: int, *, seen: str = "") -> None:
        """One step forward; errors as above."""
        with self._context.change() as work:
            work.corrections.redo(job_id, seen=seen)

    def change(self, job_id: int, what: str, change: Callable[[Correction], Correction]) -> None:
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            before = present_correction(work, job)
            if work.corrections.current(job_id) is None:
                work.corrections.add(job_id, before, what="start")
            after = levelled(self._context, work, job, change(before))
            if after != before:
                work.corrections.add(job_id, after, what=what)
                work.jobs.touch(job_id, self._context.now())


def _rests_on(job: Job, newest: object, correction: Correction, channel: str) -> tuple:
    """What a channel sounds like without its own filters follows from."""
    alignment = correction.alignment or Alignment()
    routes = alignment.routes(feed_of(alignment, channel), sample_rate_hz=job.rig.sample_rate_hz)
    outputs = {route.output for route in routes} - {channel}
    return (
        newest,
        job.rig.sample_rate_hz,
        correction.round_id,
        correction.alignment,
        correction.seat_weighting,
        dict(correction.trims_db),
        {output: correction.filters(output) for output in outputs},
        {output: correction.convolutions.get(output) for output in outputs},
        correction.switches,
        spot_weights(job, correction.seat_weighting),
    )


def _missing(job: Job, correction: Correction, spots: Sequence[int]) -> tuple[str, ...]:
    """Seats of the seat weighting of which a channel has no spot."""
    reached = {spot.seat_id for spot in job.spots if spot.id in spots}
    planned = {spot.seat_id for spot in job.spots}
    return tuple(
        seat.name
        for seat in job.plan.seats
        if correction.seat_weighting.weights.get(seat.id, 0) > 0 and seat.id in planned and seat.id not in reached
    )


def _not_summed(job: Job, absent: Mapping[int, tuple[str, ...]]) -> tuple[str, ...]:
    """Which outputs lack at which spots, in words: spots that lack the same together."""
    together: dict[tuple[str, ...], list[str]] = {}
    for spot, outputs in absent.items():
        together.setdefault(outputs, []).append(job.at_spot(spot))
    return tuple(f"{', '.join(outputs)} at {', '.join(spots)}" for outputs, spots in together.items())
