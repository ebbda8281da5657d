"""The reference level of a job: goals and readings of all channels."""

from dataclasses import dataclass

from dolce.core.job import Job
from dolce.core.rig import SECOND_BELOW_DB, ChannelLevel, goal_db, suggested_level_db
from dolce.services.context import Context
from dolce.services.rig.live_sound import LiveSound, LiveView


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ReferenceView:
    """Channels against their goals.

    Attributes
    ----------
    volume_m3 : float
        Of the room.
    suggested_db, reference_db, second_db : float
        Common practice for the room's volume; what is aimed at; the second working level. dB SPL, C and slow.
    levels : tuple of ChannelLevel
        In dB SPL; without readings where sound pressure is not known.
    live : LiveView
    now : ChannelLevel or None
        The channel that plays, with the meter's present reading.
    """

    job: Job
    volume_m3: float
    suggested_db: float
    reference_db: float
    second_db: float
    levels: tuple[ChannelLevel, ...]
    live: LiveView
    now: ChannelLevel | None

    @property
    def subs_below_db(self) -> float | None:
        """How much less than a main channel a sub should read; None without subs."""
        goals = [level.goal_db for level in self.levels if self.job.speaker(level.channel).is_sub]
        return self.reference_db - goals[0] if goals else None

    @property
    def to_second_db(self) -> float:
        """How far the volume control goes up for the second working level, which may be the louder one; 0 where both
        are the same.
        """
        return round(self.second_db - self.reference_db, 1)

    @property
    def agree(self) -> bool:
        """Whether every channel was read and is at its goal."""
        return all(level.agrees for level in self.levels)


class ReferenceLevels:
    """Reference levels of one job."""

    def __init__(self, context: Context, live: LiveSound) -> None:
        self._context = context
        self._live = live

    def view(self, job_id: int) -> ReferenceView:
        live = self._live.view(job_id, "reference")
        job, offset = live.job, live.job.rig.levels.full_scale_spl_db
        volume = job.room.length_m * job.room.width_m * job.room.height_m
        suggested = suggested_level_db(volume)
        aimed = job.rig.levels.reference_db or suggested
        subs = sum(s.is_sub for s in job.speakers)

        def level(channel: str, read_dbfs: float | None) -> ChannelLevel:
            goal = goal_db(
                is_sub=job.speaker(channel).is_sub,
                level_db=aimed,
                subs=subs,
                plays_effects=job.rig.levels.plays_effects,
            )
            read_db = None if read_dbfs is None or offset is None else read_dbfs + offset
            return ChannelLevel(channel=channel, goal_db=goal, read_db=read_db)

        playing = live.options.channel if live.running else ""
        slow = live.reading.by_weighting["C"].slow_db if live.reading and playing else None
        return ReferenceView(
            job=job,
            volume_m3=volume,
            suggested_db=suggested,
            reference_db=aimed,
            second_db=job.rig.levels.second_db or aimed - SECOND_BELOW_DB,
            levels=tuple(level(c, live.kept.get(c)) for c in job.channels),
            live=live,
            now=level(playing, slow) if playing else None,
        )
