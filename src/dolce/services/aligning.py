"""The Align stop: arrivals and levels at the main seat, trims and delays."""

from dataclasses import dataclass

from dolce.core.acoustics import speed_of_sound
from dolce.core.alignment import (
    LEVEL_BAND_HZ,
    TRIM_STEP_DB,
    ArrivalLadder,
    ChannelReading,
    arrival_ladder,
    mid_level_db,
)
from dolce.core.geometry import distance_m
from dolce.core.job import Job, Round
from dolce.core.processor import ChannelSettings
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES
from dolce.core.shape import SUB_LEVEL_BAND_HZ
from dolce.errors import InvalidForm, InvalidValue
from dolce.services.context import Context
from dolce.services.round_curves import channel_curves, untouched_round
from dolce.store import UnitOfWork


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AlignView:
    """The ladder with what was chosen of it.

    Attributes
    ----------
    chosen : settings by channel, or None where nothing was chosen yet
    expected_m : distance by the plan, by channel
    speed_m_s : float
    missing : why there is no ladder, where there is none
    """

    job: Job
    round: Round | None
    ladder: ArrivalLadder | None
    chosen: dict[str, ChannelSettings] | None
    expected_m: dict[str, float]
    speed_m_s: float
    missing: str

    @property
    def broken(self) -> tuple[str, ...]:
        """What of the proposal, or of what was chosen, the processor can't hold."""
        limits = self.job.limits
        if limits is None or self.ladder is None:
            return ()
        settings = self.chosen or {r.reading.channel: ChannelSettings(trim_db=r.trim_db, delay_s=min(r.delay_s, 0.2))
                                   for r in self.ladder.rungs}
        return tuple(f"{channel}: {text}" for channel, s in settings.items() for text in limits.broken_by_channel(s))


def readings_of(work: UnitOfWork, job: Job, round_id: int) -> list[ChannelReading]:
    """Level over all spots of the main seat, arrival and polarity at its centre, by channel."""
    readings = []
    spots = {s.id for s in job.main_spots}
    centre_spot = job.plan.centre_spot
    for channel in job.channels:
        curves = channel_curves(work, round_id, channel, per_octave=48, spots=spots)
        centre = next((t for t in curves.takes if t.spot_id == centre_spot.id), None) if curves else None
        if centre is None:
            continue
        readings.append(ChannelReading(
            channel=channel, level_db=mid_level_db(
                ANALYSIS_GRID_HZ, curves.average.level_db,
                band_hz=SUB_LEVEL_BAND_HZ if channel in SUB_CODES else LEVEL_BAND_HZ),
            arrival_s=centre.arrival_s if centre.arrival_known else None, polarity=centre.polarity))
    return readings


def chosen_settings(work: UnitOfWork, job_id: int) -> dict[str, ChannelSettings] | None:
    """Trims, delays and polarities that were chosen."""
    wish = work.jobs.align_wish(job_id)
    return None if wish is None else {channel: ChannelSettings(**values) for channel, values in wish.items()}


class Aligning:
    """Trims and delays of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> AlignView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            base = untouched_round(work, job)
            readings = readings_of(work, job, base.id) if base else []
            chosen = chosen_settings(work, job_id)
        missing = ""
        if base is None:
            missing = "Nothing is taken yet with the processor bypassed."
        elif len(job.channels) < 2:
            missing = "One channel alone needs no levels or delays against others."
        elif len(readings) < len(job.channels):
            centre = job.plan.centre_spot
            missing = "Lay out spots at the main seat first." if centre is None else \
                f"Every channel must be taken at {job.at_spot(centre.id)}, the centre of {job.seat.name}."
        limits = job.limits
        ladder = None if missing else arrival_ladder(
            readings, sample_rate_hz=job.rig.sample_rate_hz,
            trim_step_db=max(TRIM_STEP_DB, limits.trim_step_db) if limits else TRIM_STEP_DB)
        return AlignView(job=job, round=base, ladder=ladder, chosen=chosen, missing=missing,
                         expected_m={s.channel: distance_m(s.place, job.seat.place) for s in job.speakers},
                         speed_m_s=speed_of_sound(job.room.temperature_c))

    def use_proposal(self, job_id: int) -> None:
        """Take over the ladder's trims and delays; an inverted speaker is turned round."""
        ladder = self.view(job_id).ladder
        if ladder is None:
            raise InvalidValue("there is nothing to propose yet.", where="align", remedy="Take spot 1 first.")
        self._keep(job_id, {rung.reading.channel: ChannelSettings(
            trim_db=rung.trim_db, delay_s=rung.delay_s,
            polarity="inverted" if rung.reading.polarity == "inverted" else "normal") for rung in ladder.rungs},
            "as proposed")

    def choose(self, job_id: int, typed: dict[str, tuple[float, float, str]]) -> None:
        """Take over typed trims (dB), delays (ms) and polarities by channel; InvalidForm naming the field."""
        settings, faults = {}, {}
        with self._context.look() as work:
            limits = work.jobs.get(job_id).limits
        for channel, (trim_db, delay_ms, polarity) in typed.items():
            for field, build in (("trim", lambda t=trim_db: ChannelSettings(trim_db=t)),
                                 ("delay", lambda d=delay_ms: ChannelSettings(delay_s=d / 1000))):
                try:
                    build()
                except InvalidValue:
                    faults[f"{field}-{channel}"] = ("Choose -40 to 12 dB." if field == "trim"
                                                    else "Choose 0 to 200 ms.")
            if not faults:
                wished = ChannelSettings(trim_db=round(trim_db, 2), delay_s=delay_ms / 1000,
                                         polarity="inverted" if polarity == "inverted" else "normal")
                for text in limits.broken_by_channel(wished) if limits else ():
                    faults[f"{text.split()[0]}-{channel}"] = f"It would be {text}."
                settings[channel] = wished
        if faults:
            raise InvalidForm(faults)
        self._keep(job_id, settings, "by hand")

    def _keep(self, job_id: int, settings: dict[str, ChannelSettings], how: str) -> None:
        now = self._context.now()
        with self._context.change() as work:
            work.jobs.get(job_id)
            work.jobs.set_align_wish(job_id, {channel: {"trim_db": s.trim_db, "delay_s": s.delay_s,
                                                        "polarity": s.polarity} for channel, s in settings.items()})
            said = "; ".join(f"{channel} {s.trim_db:+.1f} dB, {s.delay_s * 1000:.2f} ms"
                             for channel, s in settings.items())
            work.logbook.add(job_id, f"Levels and delays chosen {how}: {said}.", at=now)
            work.jobs.touch(job_id, now)
