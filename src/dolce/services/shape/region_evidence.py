"""What speaks for the verdict on one region of a channel, looked up when it is asked for."""

from dataclasses import dataclass

import numpy as np

from dolce.core.correction import Region, excess_delay_s, ringing_s
from dolce.core.tuning import SUM_HZ
from dolce.services.align.bass_takes import bass_responses
from dolce.services.context import Context
from dolce.services.shape.shaping import Shaping

_NEAR_OCTAVES = 1 / 12  # to both sides of where a region is furthest off


@dataclass(frozen=True, slots=True, kw_only=True)
class RegionEvidence:
    """A region and what is known of it.

    Attributes
    ----------
    excess_delay_s : float or None
        Group delay beyond that of the minimum phase, mean over a sixth of an octave where the region is furthest off,
        middle of the spots; None where no phase is known.
    rings_s : float or None
        How long a hill rings, from its width.
    least_above_noise_db : float or None
        The noisiest take.
    seats, of_seats : how many seats are off to the same side
    """

    channel: str
    region: Region
    excess_delay_s: float | None
    rings_s: float | None
    least_above_noise_db: float | None
    seats: int
    of_seats: int

    @property
    def is_minimum_phase(self) -> bool | None:
        """Whether what filters do to the level undoes the sound in time too: less than a quarter of a period off."""
        return None if self.excess_delay_s is None else abs(self.excess_delay_s) < 0.25 / abs(self.region.size_hz)


def region_evidence(
    context: Context, shaping: Shaping, job_id: int, channel: str, at_hz: float
) -> RegionEvidence | None:
    """Of the region at a frequency; None where there is none."""
    view = shaping.view(job_id, channel)
    shape = view.shape
    region = (
        next((s for s in shape.plan.regions if s.from_hz * 0.99 <= at_hz <= s.to_hz * 1.01), None) if shape else None
    )
    if shape is None or region is None or view.round is None:
        return None
    grid = shape.plan.frequency_hz
    with context.look() as work:
        takes = [
            take for take in work.takes.latest(view.round.id) if take.channel == channel and take.spot_id in view.spots
        ]
        found = bass_responses(context.bass, work, view.job, view.round.id, [channel], spots=view.spots)
    noise = [take.quality.signal_to_noise_db for take in takes if take.tells_noise]
    responses = found.channels.get(channel)
    delay = None
    near = np.abs(np.log2(SUM_HZ / region.size_hz)) <= _NEAR_OCTAVES
    inside = region.covers(SUM_HZ) & near
    if responses is not None and inside.any():
        known = responses[~np.isnan(responses).any(axis=1)]
        delays = np.median(excess_delay_s(SUM_HZ, known), axis=0)[inside] if len(known) else np.zeros(0)
        delay = float(delays.mean()) if delays.size else None
    in_region = region.covers(grid)
    by_spot = -shape.needs.error_db[:, in_region].mean(axis=1)
    seat_of = {spot.id: spot.seat_id for spot in view.job.spots}
    by_seat: dict[int | None, list[float]] = {}
    for spot, value in zip(view.spots, by_spot, strict=True):
        by_seat.setdefault(seat_of.get(spot), []).append(float(value))
    same = sum(np.mean(values) * region.size_db > 0 for values in by_seat.values())
    return RegionEvidence(
        channel=channel,
        region=region,
        excess_delay_s=delay,
        rings_s=ringing_s(grid[in_region], shape.before_db[in_region] - shape.target_db[in_region])
        if region.size_db > 0
        else None,
        least_above_noise_db=min(noise, default=None),
        seats=int(same),
        of_seats=len(by_seat),
    )
