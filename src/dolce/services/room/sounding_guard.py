"""What stands and sits where stays while sound plays."""

from dolce.core.room import RoomPlan
from dolce.errors import Conflict
from dolce.store import UnitOfWork


def refuse_while_sounding(work: UnitOfWork, job_id: int, before: RoomPlan, after: RoomPlan) -> None:
    """Conflict where speakers, seats or spots would change under a pass, which carries the plan it began with."""
    running = work.passes.running()
    if running is None or running.job_id != job_id:
        return
    changed = [name for name in ("speakers", "seats", "spots") if getattr(before, name) != getattr(after, name)]
    if changed:
        raise Conflict(
            f"sound is playing in this job, and its takes belong to these {changed[0]}.",
            where="room",
            remedy="Wait until it ends, or stop it; then change them.",
        )
