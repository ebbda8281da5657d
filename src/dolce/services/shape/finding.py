"""Filters looked for: of all channels, the subs first."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import range_of
from dolce.core.correction import QUICK, THOROUGH, Compute, Effort, shared_excess_phase
from dolce.core.job import Job
from dolce.core.processor import ChannelSettings
from dolce.core.room import SUB_CODES
from dolce.core.tuning import SUM_HZ, Alignment, Correction, found_filters, spot_weights
from dolce.errors import Conflict
from dolce.services.align.bass_takes import bass_responses
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.filter_searches import FilterSearches, Report
from dolce.services.shape.levelling import levelled
from dolce.services.shape.present_correction import nothing_yet, present_correction
from dolce.services.shape.seat_responses import shaped_channels
from dolce.services.shape.shaping import Shaping
from dolce.store import UnitOfWork


class Finding:
    """Searches of filters; `effort` is how long bands are looked for."""

    effort: Effort = QUICK

    def __init__(
        self, context: Context, shaping: Shaping, searches: FilterSearches, compute: Compute | None = None
    ) -> None:
        self._context, self._shaping = context, shaping
        self._compute = compute
        self.searches = searches

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
                raise nothing_yet()
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
                raise nothing_yet()
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
                shapes = {name: self._shaping.shape(work, job, found, base.id, name)[0] for name in group}
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
            work.corrections.add(job_id, levelled(self._context, work, job, found), what="finding filters")
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


def _nobody(_: float) -> None:
    """Progress that is shown nowhere."""
