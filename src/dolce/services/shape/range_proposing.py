"""Over which range each channel is worth correcting."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

from dolce.core.room import SUB_CODES
from dolce.core.tuning import AUDIBLE_TO_HZ, SUB_RANGE_HZ, Correction
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.services.shape.present_correction import nothing_yet, present_correction
from dolce.services.shape.seat_responses import shaped_channels
from dolce.services.shape.shaping import Shaping


@dataclass(frozen=True, slots=True, kw_only=True)
class ProposedRange:
    """Where a channel is worth correcting; `close` says that a take close to it tells where it ends."""

    channel: str
    extension_hz: float
    close: bool
    range_hz: tuple[float, float]


class RangeProposing:
    """Ranges from where a loudspeaker ends to where its spots stop agreeing."""

    def __init__(self, context: Context, shaping: Shaping) -> None:
        self._context = context
        self._shaping = shaping

    def proposed_hz(self, job_id: int, channel: str) -> tuple[float, float]:
        """A range for a channel: from where it ends to where its spots stop agreeing.

        Raises
        ------
        Conflict
            Where it was not taken yet.
        """
        found = {proposed.channel: proposed for proposed in self.proposed(job_id, (channel,))}
        if channel not in found:
            raise nothing_yet()
        return found[channel].range_hz

    def proposed(self, job_id: int, channels: Sequence[str] = ()) -> tuple[ProposedRange, ...]:
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
                shape, _ = self._shaping.shape(
                    work, job, replace(correction, by_channel={**correction.by_channel, name: wide}), base.id, name
                )
                if shape is not None:
                    start, end = shape.proposed_range_hz(correction_settings.limits)
                    found[name] = start, min(end, high), shape.extension_hz
            closes = {name for name in names if job.plan.close_spots(name)}
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

    def use_proposed(self, job_id: int) -> None:
        """Let every channel be corrected over the range that is proposed for it."""
        ranges = {proposed.channel: proposed.range_hz for proposed in self.proposed(job_id)}

        def change(correction: Correction) -> Correction:
            by_channel_settings = {name: correction.correction_settings(name) for name in ranges}
            return replace(
                correction,
                by_channel={
                    **correction.by_channel,
                    **{
                        name: replace(
                            correction_settings,
                            limits=replace(correction_settings.limits, from_hz=ranges[name][0], to_hz=ranges[name][1]),
                        )
                        for name, correction_settings in by_channel_settings.items()
                    },
                },
            )

        self._shaping.change(job_id, "ranges as proposed", change)
