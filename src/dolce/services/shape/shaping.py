"""The Shape stop: target, limits, bands, and what they are predicted to do."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.alignment import level_band_hz, mid_level_db
from dolce.core.cache import Cache
from dolce.core.checked import range_of
from dolce.core.correction import (
    QUICK,
    THOROUGH,
    Compute,
    Effort,
    Expected,
    Overruled,
    Preference,
    TargetLevel,
    shared_excess_phase,
    target_levels,
)
from dolce.core.dsp import energy_mean_db
from dolce.core.filters import BandFilter, chain_level_db
from dolce.core.job import Job, Round
from dolce.core.processor import ChannelSettings, ProcessorLimits, UnsupportedSetting
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES, group_of, partner_of
from dolce.core.tuning import (
    AUDIBLE_TO_HZ,
    SUB_RANGE_HZ,
    SUM_HZ,
    Alignment,
    Band,
    ChannelShape,
    Correction,
    CorrectionSettings,
    SeatResponses,
    SeatWeighting,
    convolved_db,
    expectation_of,
    found_filters,
    fronts_level_db,
    level_weights,
    levelled_again,
    seat_weightings_of,
    settings_of,
    shape_of,
    spot_weights,
    trim_step_db,
    usual_seat_weighting,
    wanted_rise_db,
)
from dolce.core.tuning.correction import Anchor
from dolce.errors import Conflict, InvalidValue, NotFound
from dolce.services.align.bass_takes import bass_responses
from dolce.services.align.predicted import subs_as_one
from dolce.services.align.readings import moved_words
from dolce.services.context import Context
from dolce.services.load.unsupported_words import unsupported_words
from dolce.services.read.round_curves import base_round
from dolce.services.shape.filter_searches import FilterSearch, FilterSearches, Report
from dolce.services.shape.seat_responses import heard_of, shaped_channels, unsummed
from dolce.store import UnitOfWork

Scope = Literal["all", "group", "partner", "channel"]
SCOPES: tuple[Scope, ...] = ("all", "group", "partner", "channel")
_KEPT_EXPECTATIONS, _KEPT_RESPONSES = 256, 64
NEW_BAND = BandFilter(frequency_hz=100.0, gain_db=-3.0, q=2.0)


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


@dataclass(frozen=True, slots=True, kw_only=True)
class ProposedRange:
    """Where a channel is worth correcting; `close` says that a take close to it tells where it ends."""

    channel: str
    extension_hz: float
    close: bool
    range_hz: tuple[float, float]


def present_correction(work: UnitOfWork, job: Job) -> Correction:
    """The correction of a job; before the first one, what it would start from, stand on and be for."""
    kept = work.corrections.current(job.id)
    if kept is not None and kept.round_id is not None:
        return kept
    alignment = work.alignments.current(job.id)
    base = base_round(work, job, kept=alignment.round_id if alignment else None)
    return replace(
        kept or Correction(),
        round_id=base.id if base else None,
        alignment=alignment,
        seat_weighting=kept.seat_weighting
        if kept is not None and kept.seat_weighting.weights
        else usual_seat_weighting(job),
    )


class Shaping:
    """Target and bands of one job; `effort` is how long bands are looked for."""

    effort: Effort = QUICK

    def __init__(self, context: Context, compute: Compute | None = None) -> None:
        self._context = context
        self._compute = compute
        self.searches = FilterSearches()
        self._expected: Cache[tuple, tuple[Expected | None]] = Cache(_KEPT_EXPECTATIONS)
        self._seat_responses: Cache[tuple[int, str], tuple[tuple, SeatResponses]] = Cache(_KEPT_RESPONSES)

    def view(self, job_id: int, channel: str = "") -> ShapeView:
        """With a channel in front; the first where it has none such."""
        search = self.searches.of(job_id)
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

    def proposed_range_hz(self, job_id: int, channel: str) -> tuple[float, float]:
        """A range for a channel: from where it ends to where its spots stop agreeing.

        Raises
        ------
        Conflict
            Where it was not taken yet.
        """
        found = {proposed.channel: proposed for proposed in self.proposed_ranges(job_id, (channel,))}
        if channel not in found:
            raise _nothing_yet()
        return found[channel].range_hz

    def proposed_ranges(self, job_id: int, channels: Sequence[str] = ()) -> tuple[ProposedRange, ...]:
        """Ranges of some channels, or of all that can be shaped; of those that get the same filters one for both."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            if base is None:
                return ()
            names = shaped_channels(self._context, work, job, correction, base.id)
            found: dict[str, tuple[float, float, float]] = {}
            for name in [channel for channel in channels if channel in names] or names:
                correction_settings = correction.correction_settings(name)
                low, high = SUB_RANGE_HZ if name in SUB_CODES else (20.0, AUDIBLE_TO_HZ)
                wide = replace(correction_settings, limits=replace(correction_settings.limits, from_hz=low, to_hz=high))
                shape, _ = self.shape(work, job, replace(correction, own={**correction.own, name: wide}), base.id, name)
                if shape is not None:
                    start, end = shape.proposed_range_hz(correction_settings.limits)
                    found[name] = start, min(end, high), shape.extension_hz
            closes = {spot.close_to for spot in job.spots if spot.close_to}
        return tuple(
            ProposedRange(
                channel=name,
                extension_hz=end,
                close=name in closes,
                range_hz=(
                    min(found[channel][0] for channel in (name, *correction.linked_with(name)) if channel in found),
                    max(found[channel][1] for channel in (name, *correction.linked_with(name)) if channel in found),
                ),
            )
            for name, (_, _, end) in found.items()
        )

    def target_levels(self, job_id: int, channel: str) -> tuple[TargetLevel, ...]:
        """What the target's level costs and gives for a channel: how far cuts alone do the work."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            shape = self.shape(work, job, correction, base.id, channel)[0] if base is not None else None
        if shape is None:
            return ()
        return target_levels(
            shape.plan.frequency_hz,
            shape.needs,
            correction.limits_for(channel, job.limits),
            range_hz=shape.judged_hz,
            at_level_db=shape.level_db,
        )

    def use_target_level(self, job_id: int, level_db: float) -> None:
        """Let the target be at a level by hand, relative to the stimulus."""
        self.change(
            job_id,
            f"target at {level_db:+.1f} dB",
            lambda c: replace(c, anchor="hand", anchor_level_db=round(level_db, 1)),
        )

    def use_proposed_ranges(self, job_id: int) -> None:
        """Let every channel be corrected over the range that is proposed for it."""
        ranges = {proposed.channel: proposed.range_hz for proposed in self.proposed_ranges(job_id)}

        def change(correction: Correction) -> Correction:
            by_channel_settings = {name: correction.correction_settings(name) for name in ranges}
            return replace(
                correction,
                own={
                    **correction.own,
                    **{
                        name: replace(
                            correction_settings,
                            limits=replace(correction_settings.limits, from_hz=ranges[name][0], to_hz=ranges[name][1]),
                        )
                        for name, correction_settings in by_channel_settings.items()
                    },
                },
            )

        self.change(job_id, "ranges as proposed", change)

    def correction(self, job_id: int) -> Correction:
        """The correction as it is kept, without what follows from it."""
        with self._context.look() as work:
            return present_correction(work, work.jobs.get(job_id))

    def band(self, job_id: int, channel: str, band_id: int) -> Band:
        """One band, or NotFound."""
        return self.correction(job_id).band(channel, band_id)

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
                for scoped in self._in_scope(job_id, scope, channel)
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
                replace(changed, own={**correction.own, **dict.fromkeys(of, correction_settings)})
                if of
                else replace(
                    changed,
                    target=correction_settings.target,
                    limits=correction_settings.limits,
                    filter_type=correction_settings.filter_type,
                    own={},
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
                own={
                    **correction.own,
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

    def find(self, job_id: int, on_progress: Report | None = None) -> None:
        """Look for the filters of all channels, and wait for them; they stand on the alignment as it is now."""
        self._find(job_id, on_progress or _nobody)
        self.searches.keep(job_id)

    def begin_find(self, job_id: int) -> None:
        """The same behind the pages; told of and stopped by `searches`."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            base = base_round(work, job, kept=correction.round_id)
            if base is None or not shaped_channels(self._context, work, job, correction, base.id):
                raise _nothing_yet()
            # All that a search rests on: one that began before a take, an edit or a move is not the same.
            asked = (
                work.corrections.version(job_id),
                work.alignments.current(job_id),
                base.id,
                work.takes.newest(base.id),
                job.plan,
                job.limits,
            )
        self.searches.look_for(job_id, lambda on_progress: self._find(job_id, on_progress), asked=asked)

    def _find(self, job_id: int, on_progress: Report) -> None:
        """Subs first, then every other channel on the sum that has them in it."""
        with self._context.look() as work:
            job, seen = work.jobs.get(job_id), work.corrections.version(job_id)
            alignment = work.alignments.current(job_id)
            start = present_correction(work, job)
            base = base_round(work, job, kept=start.round_id)
            correction = replace(start, alignment=alignment, round_id=base.id if base else None)
            names = shaped_channels(self._context, work, job, correction, base.id) if base else []
            if not names or base is None:
                raise _nothing_yet()
            found = replace(
                correction,
                found_for=correction.seat_weighting,
                bands={c: tuple(b for b in bands if b.locked) for c, bands in correction.bands.items()},
                convolutions={},
                trims_db={},
            )
            fewer: dict[str, tuple[tuple[int, float], ...]] = {}
            subs = [name for name in names if name in SUB_CODES]
            done = 0.0
            for group in (subs, [name for name in names if name not in subs]):
                shapes = {name: self.shape(work, job, found, base.id, name)[0] for name in group}
                part, before = len(group) / len(names), done

                def reached(fraction: float, before: float = before, part: float = part) -> None:
                    on_progress(before + part * fraction)

                result = found_filters(
                    {name: shape for name, shape in shapes.items() if shape is not None},
                    found,
                    sample_rate_hz=job.rig.sample_rate_hz,
                    device=job.limits,
                    on_progress=reached,
                    turned=self._turned(work, job, found, base.id, group),
                    effort=self._effort_of(group),
                    compute=self._compute,
                )
                found = replace(
                    found,
                    bands={**found.bands, **result.correction.bands},
                    convolutions={**found.convolutions, **result.correction.convolutions},
                )
                fewer |= result.fewer
                done += part
            found = replace(
                found,
                bands={c: bands for c, bands in found.bands.items() if c in names and c not in found.convolutions},
            )
            found = replace(
                found,
                fewer={
                    channel: tuple((count, round(share, 4)) for count, share in rows) for channel, rows in fewer.items()
                },
            )
            _require_waits(job, found)
        with self._context.change() as work:
            work.corrections.require(job_id, seen)  # it may have been changed while the fit ran
            if work.corrections.current(job_id) is None:
                work.corrections.add(job_id, start, what="start")  # to go back to by undo
            work.corrections.add(job_id, self._levelled(work, job, found), what="finding filters")
            summary = ", ".join(
                [f"{name} {len(bands)} bands" for name, bands in found.bands.items()]
                + [f"{name} a convolution" for name in found.convolutions]
            )
            work.logbook.add(
                job_id,
                f"Filters found for {found.seat_weighting.name}, from round {base.name}: {summary}.",
                at=self._context.now(),
            )
            work.jobs.touch(job_id, self._context.now())

    def _effort_of(self, group: Sequence[str]) -> Effort:
        """Subs are looked for longer: what is left of a hill of theirs is heard in every channel."""
        return THOROUGH if self.effort is QUICK and set(group) <= set(SUB_CODES) else self.effort

    def _turned(
        self, work: UnitOfWork, job: Job, correction: Correction, round_id: int, channels: Sequence[str]
    ) -> dict[str, tuple[NDArray, NDArray]]:
        """What convolutions of mixed phase undo: the phase beyond the minimum that all spots share."""
        mixed = [
            c
            for c in channels
            if correction.correction_settings(c).filter_type.method == "convolution"
            and correction.correction_settings(c).filter_type.phase == "mixed"
        ]
        weights = {spot: weight for spot, weight in spot_weights(job, correction.seat_weighting).items() if weight > 0}
        if not mixed:
            return {}
        responses = bass_responses(self._context.bass, work, job, round_id, mixed, spots=list(weights))
        found = {}
        for channel, rows in responses.channels.items():
            taken = ~np.isnan(rows).any(axis=1)
            shared, _ = shared_excess_phase(SUM_HZ, rows[taken], np.array(list(weights.values()))[taken])
            found[channel] = (SUM_HZ, shared)
        return found

    def _levelled(self, work: UnitOfWork, job: Job, correction: Correction) -> Correction:
        """The correction with trims that make up for what its bands change where channels are matched."""
        if correction.alignment is None or correction.round_id is None:
            return replace(correction, trims_db={})
        weights = level_weights(job, correction.alignment.seat_weighting)
        alone = self._context.curves.of(work, correction.round_id)
        curves = subs_as_one(self._context, work, job, correction.alignment, round_id=correction.round_id, curves=alone)
        change = {}
        for speaker in job.speakers:
            at_seat = curves[speaker.channel].averaged_over_seats(weights) if speaker.channel in curves else None
            if at_seat is not None and speaker.channel in correction.alignment.channels:
                # As finely as takes are kept: sharp bands on a steep response change less than its smoothed curve says.
                plays_alone = curves[speaker.channel] is alone.get(speaker.channel)
                change[speaker.channel] = _level_change_db(
                    [take.level_db for take in at_seat.takes] if plays_alone else at_seat.level_db,
                    [weights[take.spot_id] for take in at_seat.takes],
                    _change_db(correction, speaker.channel, job),
                    is_sub=speaker.is_sub,
                ) - wanted_rise_db(speaker.channel, correction, at_hz=ANALYSIS_GRID_HZ)
        return replace(correction, trims_db=levelled_again(change, step_db=trim_step_db(job.limits)))

    def edit_band(self, job_id: int, channel: str, band_id: int, filter_: BandFilter) -> None:
        """Change a band; InvalidValue where the processor can't be set to it."""
        device = self._device(job_id)
        if device is not None and device.bands:
            broken = device.broken_by_channel(ChannelSettings(filters=(filter_,)))
            if broken:
                raise InvalidValue(
                    f"{unsupported_words(broken[0], band='it')}.", where="band", remedy="Choose another value."
                )
        self._change_band(
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
            shape, spots = self.shape(work, job, changed, base.id, channel) if base else (None, ())
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

    def lock_band(self, job_id: int, channel: str, band_id: int, *, locked: bool) -> None:
        """Lock a band, so that it stays when filters are found again, or unlock it."""
        self._change_band(
            job_id,
            "lock",
            channel,
            band_id,
            lambda correction: correction.with_band(
                channel, band_id, replace(correction.band(channel, band_id), locked=locked)
            ),
        )

    def copy_bands(self, job_id: int, channel: str, *, to: Scope) -> None:
        """Give a channel's bands to its partner, or to all of its group."""
        others = [name for name in self._in_scope(job_id, to, channel) if name != channel]
        if not others:
            raise Conflict(f"{channel} has no such others.", where="bands", remedy="Copy them by hand.")
        self.change(job_id, f"bands of {channel} for {', '.join(others)}", lambda c: c.with_copies(channel, others))

    def _in_scope(self, job_id: int, scope: Scope, channel: str) -> tuple[str, ...]:
        """The channels that are meant; none for all."""
        with self._context.look() as work:
            channels = work.jobs.get(job_id).channels
        match scope:
            case "channel":
                return tuple(c for c in channels if c == channel)
            case "partner":
                return tuple(c for c in channels if c == partner_of(channel))
            case "group":
                return tuple(c for c in channels if group_of(c) == group_of(channel))
        return ()

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

    def _device(self, job_id: int) -> ProcessorLimits | None:
        with self._context.look() as work:
            return work.jobs.get(job_id).limits

    def switch_band(self, job_id: int, channel: str, band_id: int, *, on: bool) -> None:
        """Switch a band on or off."""
        self._change_band(
            job_id,
            "switch",
            channel,
            band_id,
            lambda correction: correction.with_band(
                channel, band_id, replace(correction.band(channel, band_id), on=on)
            ),
        )

    def remove_band(self, job_id: int, channel: str, band_id: int) -> None:
        self._change_band(job_id, "removal", channel, band_id, lambda c: c.with_band(channel, band_id, None))

    def add_band(self, job_id: int, channel: str) -> None:
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
        self.change(
            job_id,
            f"new band, {channel}",
            lambda correction: correction.with_bands(
                channel, (*correction.bands.get(channel, ()), Band(filter=NEW_BAND))
            ),
        )

    def undo(self, job_id: int, *, seen: str = "") -> None:
        """One step back; Outdated where the shape is no longer the one that was seen."""
        with self._context.change() as work:
            work.corrections.undo(job_id, seen=seen)

    def redo(self, job_id: int, *, seen: str = "") -> None:
        """One step forward; errors as above."""
        with self._context.change() as work:
            work.corrections.redo(job_id, seen=seen)

    def _change_band(
        self, job_id: int, what: str, channel: str, band_id: int, change: Callable[[Correction], Correction]
    ) -> None:
        """A change of one band, told by its place in the row as people count."""
        number = self.correction(job_id).place_of_band(channel, band_id) + 1
        self.change(job_id, f"{what} of band {number}, {channel}", change)

    def change(self, job_id: int, what: str, change: Callable[[Correction], Correction]) -> None:
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            before = present_correction(work, job)
            if work.corrections.current(job_id) is None:
                work.corrections.add(job_id, before, what="start")
            after = self._levelled(work, job, change(before))
            if after != before:
                work.corrections.add(job_id, after, what=what)
                work.jobs.touch(job_id, self._context.now())


def _rests_on(job: Job, newest: object, correction: Correction, channel: str) -> tuple:
    """What a channel sounds like without its own filters follows from."""
    outputs = {route.output for route in (correction.alignment or Alignment()).routes(channel)} - {channel}
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


def _change_db(correction: Correction, channel: str, job: Job) -> NDArray:
    """What filters of a channel do to its level, on the analysis grid."""
    return chain_level_db(
        correction.filters(channel), at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=job.rig.sample_rate_hz
    ) + convolved_db(correction.convolutions.get(channel), ANALYSIS_GRID_HZ)


def _level_change_db(level_db: ArrayLike, weights: Sequence[float], change_db: NDArray, *, is_sub: bool) -> float:
    """What filters change of a channel's level in the band where it is matched; levels of shape (spots, points)."""
    level = energy_mean_db(level_db, weights=weights)
    band = level_band_hz(is_sub=is_sub)
    return mid_level_db(ANALYSIS_GRID_HZ, level + change_db, band_hz=band) - mid_level_db(
        ANALYSIS_GRID_HZ, level, band_hz=band
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


def _require_waits(job: Job, correction: Correction) -> None:
    """Conflict where a channel can't wait as long as the others' convolutions make them late."""
    alignment, most = correction.alignment or Alignment(), range_of(ChannelSettings, "delay_s").high
    for channel in job.channels:
        asked = alignment.settings(channel).delay_s + correction.wait_s(
            channel, sample_rate_hz=job.rig.sample_rate_hz, most_taps=(job.limits.taps or None) if job.limits else None
        )
        if asked > most:
            raise Conflict(
                f"{channel} would have to wait {1000 * asked:.0f} ms for the others' convolutions, and "
                f"{1000 * most:.0f} ms is the most.",
                where="shape",
                remedy="Choose the same phase and length for all channels, or a shorter one.",
            )


def _nothing_yet() -> Conflict:
    return Conflict(
        "there is nothing to shape yet.",
        where="shape",
        remedy="Take at least one spot of a seat that counts with the processor bypassed.",
    )


def _nobody(_: float) -> None:
    """Told to nobody."""
