"""Which spots are measured at once."""

from dolce.core.job.job import Job


def placement_of(job: Job, spot_id: int) -> list[int]:
    """The spots that are measured at once with the one given: with several microphones each placement serves several.

    Spots are taken in their order, as many at a time as there are microphones; the leading one stands at the first.
    """
    ids = [spot.id for spot in job.spots]
    count = len(job.rig.inputs)
    start = ids.index(job.spot(spot_id).id) // count * count
    return ids[start : start + count]
