"""One channel from round to round: deviation, level, arrival and decay."""

from dataclasses import dataclass

import numpy as np

from dolce.core.alignment import level_band_hz, mid_level_db
from dolce.core.job import Job, Round, TakeRecord, bass_alone
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Correction, spot_deviations_db
from dolce.services.context import Context
from dolce.services.prove.tolerating import Tolerating
from dolce.services.shape.present_correction import present_correction
from dolce.store import UnitOfWork

_BASS_TO_HZ, _DECAY_TO_HZ = 200.0, 4000.0


@dataclass(frozen=True, slots=True, kw_only=True)
class HistoryPoint:
    """A channel in one round; None where the round does not tell it.

    Attributes
    ----------
    spots : int
        How many of the present spots it was taken at.
    deviation_db : float
        From the target of the present correction, over the channel's range, mean of the spots.
    level_db : float
        Of its average, in the band by which its level is matched.
    later_s : float or None
        Behind the main channel that arrived first, at the spot of the main seat's centre.
    decay_s, bass_decay_s : float or None
        Mean of T20 from 200 Hz to 4 kHz, and below, at that spot.
    """

    round: Round
    spots: int
    deviation_db: float
    level_db: float
    later_s: float | None
    decay_s: float | None
    bass_decay_s: float | None


class Histories:
    """Histories of one job's channels."""

    def __init__(self, context: Context, tolerating: Tolerating) -> None:
        self._context = context
        self._tolerating = tolerating

    def of(self, job_id: int, channel: str) -> list[HistoryPoint]:
        """Every round in which a channel was taken, in their order."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            correction = present_correction(work, job)
            points = (self._point(work, job, taken_in, correction, channel) for taken_in in work.takes.rounds(job_id))
            return [point for point in points if point is not None]

    def _point(
        self, work: UnitOfWork, job: Job, taken_in: Round, correction: Correction, channel: str
    ) -> HistoryPoint | None:
        there = {spot.id for spot in job.spots}
        every = self._context.curves.of(work, taken_in.id)
        curves = every[channel].at(there) if channel in every else None
        if curves is None:
            return None
        limits, centre = correction.limits_for(channel), job.plan.centre_spot
        off = spot_deviations_db(
            ANALYSIS_GRID_HZ,
            curves.level_db,
            correction.target_db(channel, ANALYSIS_GRID_HZ),
            level_band_hz=correction.level_band_hz(channel),
            range_hz=(limits.from_hz, limits.to_hz),
        )
        at_centre = {
            name: take
            for name, of_channel in every.items()
            for take in of_channel.takes
            if centre is not None and take.spot_id == centre.id and name in job.channels
        }
        decay_s, bass_s = self._decays(work, at_centre.get(channel))
        return HistoryPoint(
            round=taken_in,
            spots=len(curves.takes),
            deviation_db=float(off.mean()),
            level_db=mid_level_db(
                ANALYSIS_GRID_HZ, curves.average.level_db, band_hz=level_band_hz(is_sub=bass_alone(channel))
            ),
            later_s=_later_s(at_centre, channel),
            decay_s=decay_s,
            bass_decay_s=bass_s,
        )

    def _decays(self, work: UnitOfWork, take: TakeRecord | None) -> tuple[float | None, float | None]:
        found = self._tolerating.decay_of(work, take) if take is not None and take.has_response else None
        if found is None:
            return None, None
        at_hz, seconds = (np.array(part) for part in found)

        def mean(inside: np.ndarray) -> float | None:
            known = seconds[inside & np.isfinite(seconds)]
            return float(known.mean()) if known.size else None

        return mean((at_hz > _BASS_TO_HZ) & (at_hz <= _DECAY_TO_HZ)), mean(at_hz <= _BASS_TO_HZ)


def _later_s(at_centre: dict[str, TakeRecord], channel: str) -> float | None:
    known = {name: take.arrival_s for name, take in at_centre.items() if take.arrival_known and take.source == "rig"}
    main = [arrival for name, arrival in known.items() if not bass_alone(name)]
    return known[channel] - min(main) if channel in known and main else None
