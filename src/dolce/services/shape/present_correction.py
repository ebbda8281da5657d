"""The correction of a job as it is kept, and what is said before anything was taken."""

from dataclasses import replace

from dolce.core.job import Job
from dolce.core.tuning import Correction, usual_seat_weighting
from dolce.errors import Conflict
from dolce.services.read.round_curves import base_round
from dolce.store import UnitOfWork


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


def nothing_yet() -> Conflict:
    return Conflict(
        "there is nothing to shape yet.",
        where="shape",
        remedy="Take at least one spot of a seat that counts with the processor bypassed.",
    )
