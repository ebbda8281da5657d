"""How loud each loudspeaker plays cleanly at the main seat, by takes at rising level or as typed."""

from dataclasses import dataclass, replace

import numpy as np

from dolce.core.cache import Cache
from dolce.core.dsp import together_db
from dolce.core.job import Job, TakeRecord
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.rig import EFFECTS_ABOVE_DB, suggested_level_db
from dolce.core.tuning import MaximumLevelBand, PlayedOnce, maximum_level_bands, needed_levels_db, typed_levels
from dolce.errors import FormatError, InvalidValue
from dolce.formats.target_text import read_target
from dolce.services.context import Context
from dolce.services.read.take_details import distortion_in
from dolce.services.shape.shaping import Shaping
from dolce.store import UnitOfWork

_MOST_TAKES, _KEPT = 12, 96


@dataclass(frozen=True, slots=True, kw_only=True)
class MaximumLevelView:
    """Clean levels of one channel.

    Attributes
    ----------
    levels_dbfs : how loud the takes were that tell
    spot : number of the spot where they were made; None without takes
    reference_db : dB SPL
    assumed : whether that is what suits the room, none being set
    pressure_known : whether dB SPL of takes is known
    typed : as typed, by octave
    """

    channel: str
    bands: tuple[MaximumLevelBand, ...]
    levels_dbfs: tuple[float, ...]
    spot: int | None
    reference_db: float
    assumed: bool
    pressure_known: bool
    typed: dict[float, float]

    @property
    def least(self) -> MaximumLevelBand | None:
        """The band with the least left."""
        known = [(band.margin_db, number) for number, band in enumerate(self.bands) if band.margin_db is not None]
        return self.bands[min(known)[1]] if known else None


class MaximumLevels:
    """Clean levels of one job's loudspeakers."""

    def __init__(self, context: Context, shaping: Shaping) -> None:
        self._context = context
        self._shaping = shaping
        self._kept: Cache[tuple, tuple[PlayedOnce | None]] = Cache(_KEPT)

    def view(self, job_id: int, channel: str) -> MaximumLevelView:
        """What is known of a channel; its takes are read once."""
        shape = self._shaping.view(job_id, channel).shape
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            takes = self._takes(work, job, channel)
            played = [played for played in (self._played(work, job, take) for take in takes) if played is not None]
        levels = job.rig.levels
        reference = levels.reference_db or suggested_level_db(job.plan.size.volume_m3)
        needed = {}
        if shape is not None and shape.channel == channel:
            needed = needed_levels_db(
                ANALYSIS_GRID_HZ, shape.predicted_db, reference_db=reference + _above_mains_db(job, channel)
            )
        typed = dict(self._shaping.correction(job_id).maximum_levels_db.get(channel, {}))
        return MaximumLevelView(
            channel=channel,
            bands=maximum_level_bands(played, typed=typed, needed_db=needed),
            levels_dbfs=tuple(sorted(times.level_dbfs for times in played)),
            spot=job.spot(takes[0].spot_id).number if takes else None,
            reference_db=reference,
            assumed=levels.reference_db is None,
            pressure_known=levels.full_scale_spl_db is not None,
            typed=typed,
        )

    def type_levels(self, job_id: int, channel: str, text: str) -> None:
        """Clean levels as the data sheet has them: lines of Hz and dB SPL at the main seat; nothing to go by takes.

        Raises
        ------
        FormatError, InvalidValue
            Where they can't be read.
        """
        levels: dict[float, float] = {}
        if text.strip():
            try:
                rows = read_target(text.encode(), name="clean levels")
            except FormatError as error:
                raise InvalidValue(error.problem, where="clean levels", remedy=error.remedy) from error
            levels = typed_levels(rows[:, 0].tolist(), rows[:, 1].tolist())
        self._shaping.change(
            job_id,
            f"clean levels of {channel}",
            lambda c: replace(
                c,
                maximum_levels_db={
                    name: known for name, known in {**c.maximum_levels_db, channel: levels}.items() if known
                },
            ),
        )

    def _takes(self, work: UnitOfWork, job: Job, channel: str) -> list[TakeRecord]:
        """Sweeps of the rig at that spot of the main seat where the channel was taken at most levels."""
        main = {spot.id for spot in job.main_spots}
        found = [
            take
            for round_ in work.takes.rounds(job.id)
            if round_.bypassed
            for take in work.takes.every_attempt(round_.id, channel, main)
            if take.source == "rig"
            and take.signal == "sweep"
            and take.level_dbfs is not None
            and not take.removed
            and not take.sounded
            and not take.quality.clipped_samples
        ]
        by_spot: dict[int, dict[float, TakeRecord]] = {}
        for take in found:
            if take.level_dbfs is not None:
                by_spot.setdefault(take.spot_id, {})[round(take.level_dbfs, 1)] = take  # the latest of each level
        most = max(by_spot.values(), key=len, default={})
        return [most[level] for level in sorted(most)][-_MOST_TAKES:]

    def _played(self, work: UnitOfWork, job: Job, take: TakeRecord) -> PlayedOnce | None:
        """One take as dB SPL and harmonics; None where it can't tell, or pressure is not known."""
        full_scale = job.rig.levels.full_scale_spl_db
        level_dbfs = take.level_dbfs
        if full_scale is None or level_dbfs is None:
            return None
        to_spl_db = full_scale + level_dbfs + job.rig.levels.microphone_gain_db
        key = (take.id, full_scale, job.rig.levels.microphone_gain_db)

        def read() -> tuple[PlayedOnce | None]:
            try:
                found = distortion_in(work, take)
            except InvalidValue:
                return (None,)
            spl = take.level_db + to_spl_db
            return (
                PlayedOnce(
                    frequency_hz=found.frequency_hz,
                    harmonics_db=found.total_db,
                    noise_db=found.noise_db,
                    spl_db=np.interp(np.log(found.frequency_hz), np.log(ANALYSIS_GRID_HZ), spl),
                    level_dbfs=level_dbfs,
                ),
            )

        return self._kept.get_or(key, read)[0]


def _above_mains_db(job: Job, channel: str) -> float:
    """How much louder than a main channel a sub has to play: the effects channel, shared by all subs."""
    if not job.speaker(channel).is_sub:
        return 0.0
    subs = sum(speaker.is_sub for speaker in job.speakers)
    return (EFFECTS_ABOVE_DB if job.rig.levels.plays_effects else 0.0) - together_db(subs)
