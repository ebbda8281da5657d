"""Subs of a job beside each other: how they are compared, what they read, what is still to change."""

from dataclasses import dataclass, replace

from dolce.core.job import Job
from dolce.core.rig import SubMatch, SubReading, sub_changes, subs_agree
from dolce.services.context import Context
from dolce.services.rig.live_sound import LiveSound, LiveView


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SubsView:
    """The subs with their readings.

    Attributes
    ----------
    readings : tuple of SubReading
        In dB SPL where pressure is known, else dBFS; C, over one period of the noise.
    agree : bool
    next_sub : str
        The sub to go to: the first not read, else the one farthest off; empty where all agree.
    now_db : float or None
        Present level of the sub that plays.
    """

    job: Job
    match: SubMatch
    readings: tuple[SubReading, ...]
    agree: bool
    next_sub: str
    live: LiveView
    now_db: float | None
    unit: str


class SubMatching:
    """Sub matching of one job."""

    def __init__(self, context: Context, live: LiveSound) -> None:
        self._context = context
        self._live = live

    def view(self, job_id: int) -> SubsView:
        live = self._live.view(job_id, "subs")
        job = live.job
        offset = job.rig.levels.full_scale_spl_db or 0.0
        subs = job.subs
        kept = {c: v + offset for c, v in live.kept.items() if c in subs}
        readings = tuple(sub_changes(kept, subs, job.rig.sub_match))
        agree = subs_agree(kept, subs, job.rig.sub_match)
        missing = [r.channel for r in readings if r.read_db is None]
        off = [r.channel for r in readings if r.change_db]
        playing = live.running and live.options.channel in subs
        return SubsView(
            job=job,
            match=job.rig.sub_match,
            readings=readings,
            agree=agree,
            live=live,
            next_sub="" if agree else (missing or off or [""])[0],
            now_db=live.reading.recent_db["C"] + offset if playing and live.reading else None,
            unit="dB SPL" if job.rig.levels.full_scale_spl_db is not None else "dBFS",
        )

    def set_match(self, job_id: int, match: SubMatch) -> None:
        """Compare otherwise; readings made before no longer count."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            if match == rig.sub_match:
                return
            work.jobs.set_rig(job_id, replace(rig, sub_match=match))
        self._live.forget_readings(job_id, "subs")
