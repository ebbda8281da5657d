"""What speaks for the verdict on one region of a channel, looked up when it is asked for."""

from dolce.core.tuning import RegionEvidence, evidence_of
from dolce.services.align.bass_takes import bass_responses
from dolce.services.context import Context
from dolce.services.shape.shaping import Shaping


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
    with context.look() as work:
        takes = [
            take for take in work.takes.latest(view.round.id) if take.channel == channel and take.spot_id in view.spots
        ]
        found = bass_responses(context.bass, work, view.job, view.round.id, [channel], spots=view.spots)
    seat_of = {spot.id: spot.seat_id for spot in view.job.spots}
    return evidence_of(
        shape,
        region,
        responses=found.channels.get(channel),
        noise_db=[take.quality.signal_to_noise_db for take in takes if take.tells_noise],
        seats=[seat_of.get(spot) for spot in view.spots],
    )
