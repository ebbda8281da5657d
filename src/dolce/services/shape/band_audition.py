"""One band heard: pink noise through a channel's bands, in which that one goes in and out."""

from dataclasses import dataclass, replace

import numpy as np

from dolce.core.filters import playable
from dolce.core.job import PassRecord
from dolce.core.signals import FilteredSource, Source
from dolce.errors import Conflict
from dolce.services.context import Context
from dolce.services.rig.live_sound import LiveSound
from dolce.services.shape.shaping import Shaping

_USUAL_DBFS = -30.0


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditionedBand:
    """What is heard: a channel, the band by its frequency, whether it is in now, and whether that changes by itself."""

    channel: str
    frequency_hz: float
    band_in: bool
    by_itself: bool
    level_dbfs: float


class BandHearing:
    """Bands of one job's correction, heard one at a time."""

    def __init__(self, context: Context, shaping: Shaping, live: LiveSound) -> None:
        self._context = context
        self._shaping = shaping
        self._live = live

    def start(self, job_id: int, channel: str, band_id: int) -> PassRecord:
        """Play; peaks stay under the ceiling with the band and without it.

        Raises
        ------
        Conflict
            Where something sounds already, or the processor plays a preset: bands would be heard twice.
        NotFound
            Where the band is gone.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        correction = self._shaping.correction(job_id)
        band = correction.band(channel, band_id)
        if not job.processor.bypassed:
            raise Conflict(
                f"the processor is {job.processor.description}: what it corrects would be corrected twice.",
                where="processor",
                remedy="Switch it to bypass on the Load page, then listen again.",
            )
        rate = job.rig.sample_rate_hz
        if not playable([band.filter], sample_rate_hz=rate):
            raise Conflict(
                f"this band lies above what {rate} Hz can play.",
                where="bands",
                remedy="Choose a lower frequency, or another rate on the Rig page.",
            )
        kept = [
            band
            for band in correction.bands[channel]
            if (band.on or band.id == band_id) and playable([band.filter], sample_rate_hz=rate)
        ]
        chain = tuple(band.filter for band in kept)
        place = [band.id for band in kept].index(band_id)
        source = Source(kind="pink", level_dbfs=_USUAL_DBFS)
        without = (*chain[:place], *chain[place + 1 :])
        peak = max(FilteredSource(source=source, filters=sections).peak_dbfs(rate) for sections in (chain, without))
        room_db = job.rig.levels.ceiling_dbfs - peak
        if room_db < 0:
            source = replace(source, level_dbfs=float(np.floor((_USUAL_DBFS + room_db) * 10) / 10))
        return self._live.start(
            job_id, "band", channel=channel, source=source, chain=chain, switched=place, band_in=True, automatic=True
        )

    def switch(self, job_id: int, *, band_in: bool | None) -> None:
        """In or out by hand; None for by itself, in and out in turn."""
        options = self._live.options(job_id, "band")
        self._live.change(
            job_id, "band", automatic=band_in is None, band_in=options.band_in if band_in is None else band_in
        )

    def look(self, job_id: int) -> AuditionedBand | None:
        """What is heard now; None in silence. Also tells the sound that somebody looks."""
        options = self._live.options(job_id, "band")
        if not options.chain or not self._live.view(job_id, "band").running:
            return None
        return AuditionedBand(
            channel=options.channel,
            frequency_hz=options.chain[options.switched].frequency_hz,
            band_in=options.band_in,
            by_itself=options.automatic,
            level_dbfs=options.source.level_dbfs,
        )
