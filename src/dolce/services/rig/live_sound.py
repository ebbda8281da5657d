"""Sound without an end: meter, spectrum, sources, the level that comes up, reference level, subs beside each other.

One session at a time, as a pass of the sound thread, so that nothing else sounds meanwhile. What is asked for can be
changed while it runs. A session ends by itself when it has done its work, and when no page looks at it any more.
"""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from dolce.core.job import Job, PassRecord, ReadingsResult, TakeRecord, result_of
from dolce.core.levels import LiveReading
from dolce.core.rig import RampStep
from dolce.core.signals import PERIOD_S, Source
from dolce.devices.interface import Progress, Stopped
from dolce.errors import Conflict
from dolce.formats.audio_file import write_wav_24
from dolce.formats.bands_csv import write_bands
from dolce.services.context import Context
from dolce.services.rig.live_session import (
    AVERAGES_S,
    MOVING_S,
    SETTLE_S,
    Bands,
    Keepers,
    LiveOptions,
    LiveSession,
    MovingAverage,
    Purpose,
    SessionLook,
)
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.take_making import require_open
from dolce.services.takes.taking import Taking
from dolce.store import UnitOfWork

# Kinds of passes: readings of these two purposes are kept with them.
_KIND: dict[Purpose, str] = {"reference": "reference", "subs": "subs"}
_FILE_PERIODS = 6

__all__ = ["AVERAGES_S", "LiveOptions", "LiveSound", "LiveView", "Purpose"]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LiveView:
    """One look at a session, or at what is left of the last one; `last_pass` is None while it runs.

    Attributes
    ----------
    running : bool
        Whether this job's session of this purpose sounds or listens now.
    seconds : float
        Since the channel or the source was last changed.
    settles_in_s : float
        Until the reading may be kept; 0 as soon as it may.
    kept : mapping of channel to dB
        Readings of the purposes that keep some, dBFS with C.
    """

    job: Job
    purpose: Purpose
    options: LiveOptions
    running: bool
    reading: LiveReading | None
    bands: Bands | None
    frozen: Bands | None
    seconds: float
    averaged_s: float
    settles_in_s: float
    ramp: RampStep | None
    kept: Mapping[str, float]
    last_pass: PassRecord | None

    @property
    def ready(self) -> bool:
        """Whether the reading has settled enough to be kept."""
        return self.reading is not None and self.settles_in_s == 0


class LiveSound:
    """Live sessions of all jobs, one at a time."""

    def __init__(self, context: Context, sound: SoundWork, taking: Taking) -> None:
        self._context, self._sound, self._taking = context, sound, taking
        self._options_kept: dict[tuple[int, Purpose], LiveOptions] = {}
        self._frozen: dict[int, Bands] = {}
        self._session: LiveSession | None = None
        self._compared: TakeRecord | None = None

    # Looking

    def view(self, job_id: int, purpose: Purpose) -> LiveView:
        """The state now; also tells the session that somebody looks.

        While it runs, everything is in memory: pages ask several times a second, and the store is left alone.
        """
        session = self._of(job_id, purpose)
        if session is not None:
            session.seen()
            look = session.look()
            if not session.over:
                return self._seen(session.job, purpose, look, running=True, kept=session.kept, last=None)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, _KIND.get(purpose, "live"))
        return self._seen(
            job,
            purpose,
            look if session is not None else None,
            running=False,
            last=last,
            kept=result_of(ReadingsResult, last).kept,
        )

    def _seen(
        self,
        job: Job,
        purpose: Purpose,
        look: SessionLook | None,
        *,
        running: bool,
        kept: Mapping[str, float],
        last: PassRecord | None,
    ) -> LiveView:
        return LiveView(
            job=job,
            purpose=purpose,
            options=self.options(job.id, purpose),
            running=running,
            kept=kept,
            last_pass=last,
            reading=look.reading if look else None,
            bands=look.bands if look else None,
            frozen=self._frozen.get(job.id),
            seconds=look.seconds if look else 0.0,
            averaged_s=look.averaged_s if look else 0.0,
            settles_in_s=look.settles_in_s if look else SETTLE_S,
            ramp=look.ramp if look else None,
        )

    def options(self, job_id: int, purpose: Purpose) -> LiveOptions:
        """What was asked for last."""
        session = self._of(job_id, purpose)
        if session is not None:
            return session.options
        return self._options_kept.get((job_id, purpose)) or _first_options(purpose)

    # Asking

    def start(self, job_id: int, purpose: Purpose, **changes: Any) -> PassRecord:
        """Begin; Conflict where something sounds already."""
        options = replace(self.options(job_id, purpose), **changes)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            kind = _KIND.get(purpose, "live")
            last = work.passes.latest(job_id, kind)
        options = replace(options, spot=job.spot(options.spot).id if options.spot else job.first_spot.id)
        if options.channel:
            job.speaker(options.channel)
            if purpose in ("moving", "ramp", "reference", "subs"):
                require_open(job, [options.channel])
        options = replace(options, top_db=None) if purpose == "moving" else options
        session = LiveSession(self._keepers(job_id, purpose), job, purpose, options)
        state = self._options_kept[(job_id, purpose)] = session.options
        result = result_of(ReadingsResult, last) if purpose in _KIND else ReadingsResult()
        session.kept = dict(result.kept)

        def step(_channel: str, _spot: int, progress: Progress, stopped: Stopped) -> Keep:
            return session.run(progress, stopped)

        return self._sound.start(
            job_id,
            kind=kind,
            steps=[(state.channel, state.spot)],
            step=step,
            result=result,
            seconds_per_step=MOVING_S if purpose == "moving" else 0.0,
            before=lambda: self._take_over(session),
            after=session.end,
        )

    def change(self, job_id: int, purpose: Purpose, **changes: Any) -> None:
        """Change what is asked for, at once where it runs."""
        options = replace(self.options(job_id, purpose), **changes)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        if options.channel:
            job.speaker(options.channel)
        session = self._of(job_id, purpose)
        if session is not None:
            session.change(options, job)
        self._options_kept[(job_id, purpose)] = options

    def reset(self, job_id: int, purpose: Purpose) -> None:
        """Forget highest values and averages."""
        session = self._of(job_id, purpose)
        if session is not None:
            session.reset()

    def refresh(self, job_id: int) -> None:
        """A knob was turned, mute or dim was pressed: the room sounds otherwise from now on."""
        session = self._session
        if session is not None and session.job.id == job_id:
            with self._context.look() as work:
                session.refresh(work.jobs.get(job_id))

    def hold(self, job_id: int) -> None:
        """Freeze the spectrum beside the live one."""
        session = self._of(job_id, "spectrum")
        bands = session.look().bands if session is not None else None
        if bands is None:
            raise Conflict("there is no spectrum yet.", where="spectrum", remedy="Start it and wait a second.")
        self._frozen[job_id] = bands

    def release(self, job_id: int) -> None:
        """Let the frozen spectrum go."""
        self._frozen.pop(job_id, None)

    def use_level(self, job_id: int) -> None:
        """End the ramp here and use its level."""
        session = self._of(job_id, "ramp")
        if session is None or session.over or session.look().ramp is None:
            raise Conflict("nothing comes up now.", where="level", remedy="Start it first.")
        session.finish()
        self._sound.wait(5)

    def louder(self, job_id: int, purpose: Purpose, change_db: float) -> None:
        """The source louder or softer, its peaks never above the ceiling."""
        options = self.options(job_id, purpose)
        with self._context.look() as work:
            rig = work.jobs.get(job_id).rig
        source = options.source
        over = source.peak_dbfs(rig.sample_rate_hz) - source.level_dbfs if source.kind != "silence" else 0.0
        most = min(-3.0, np.floor((rig.levels.ceiling_dbfs - over) * 10) / 10)
        level = max(-90.0, min(most, round(source.level_dbfs + change_db, 2)))
        self.change(job_id, purpose, source=replace(source, level_dbfs=level))

    def move_scale(self, job_id: int, change_db: float) -> None:
        """The scale of the spectrum up or down."""
        top = self.options(job_id, "spectrum").top_db
        if top is not None:
            self.change(job_id, "spectrum", top_db=top + change_db)

    def source_file(self, job_id: int, purpose: Purpose) -> tuple[bytes, str]:
        """The source as 24-bit WAV for any player, 33 s long, and its file name."""
        with self._context.look() as work:
            rate = work.jobs.get(job_id).rig.sample_rate_hz
        source = self.options(job_id, purpose).source
        if source.kind == "silence":
            raise Conflict("no source is chosen.", where="source", remedy="Choose one and use it.")
        samples = source.block(0, round(_FILE_PERIODS * PERIOD_S * rate), sample_rate_hz=rate)
        return (
            write_wav_24(samples, sample_rate_hz=rate),
            f"dolce-{source.kind}-{abs(source.level_dbfs):g}-below-full-scale-{rate}Hz.wav",
        )

    def bands_file(self, job_id: int) -> tuple[bytes, str]:
        """The spectrum as CSV, in dB SPL where it is known, with the held one beside it; and its file name."""
        view = self.view(job_id, "spectrum")
        if view.bands is None:
            raise Conflict("there is no spectrum yet.", where="spectrum", remedy="Start it and wait a second.")
        offset = view.job.rig.levels.full_scale_spl_db
        unit = "dbfs" if offset is None else "db_spl"
        levels = {f"now_{unit}": view.bands.level_db + (offset or 0.0)}
        if view.frozen is not None:
            held = np.interp(np.log(view.bands.frequency_hz), np.log(view.frozen.frequency_hz), view.frozen.level_db)
            levels[f"held_{unit}"] = held + (offset or 0.0)
        return write_bands(view.bands.frequency_hz, levels), f"dolce-spectrum-{view.bands.per_octave}-per-octave.csv"

    def compared_take(self, job_id: int) -> TakeRecord | None:
        """The kept average that the spectrum is compared with; read once."""
        wanted = self.options(job_id, "spectrum").compared
        if not wanted:
            return None
        if self._compared is None or self._compared.id != wanted:
            self._compared = next((take for take in self.moving_takes(job_id) if take.id == wanted), None)
        return self._compared

    def moving_takes(self, job_id: int) -> list[TakeRecord]:
        """Moving averages of a job that the spectrum can be compared with, the latest first."""
        with self._context.look() as work:
            rounds = [r.id for r in work.takes.rounds(job_id)]
            return work.takes.moving(rounds)

    def keep_reading(self, job_id: int, purpose: Purpose) -> None:
        """Keep what the meter shows for the channel that plays."""
        session = self._of(job_id, purpose)
        if session is None or session.look().settles_in_s:
            raise Conflict("the reading has not settled yet.", where="meter", remedy="Wait until it has.")
        with self._context.change() as work:
            self._keep_in(work, job_id, purpose, session.options.channel, session.steady_db())

    def _keep_in(self, work: UnitOfWork, job_id: int, purpose: Purpose, channel: str, level_db: float) -> None:
        """Keep a reading of a channel with its pass, and in the logbook."""
        last = work.passes.latest(job_id, _KIND[purpose])
        job = work.jobs.get(job_id)
        offset = job.rig.levels.full_scale_spl_db
        kept = {**result_of(ReadingsResult, last).kept, channel: round(level_db, 2)}
        if last is not None:
            work.passes.keep_result(last.id, ReadingsResult(kept=kept))
        session = self._of(job_id, purpose)
        if session is not None:
            session.kept = kept
        level_words = f"{level_db + offset:.1f} dB SPL" if offset is not None else f"{level_db:.1f} dBFS"
        what = "Reference level" if purpose == "reference" else "Subs beside each other"
        work.logbook.add(job_id, f"{what}: {channel} reads {level_words}, C.", at=self._context.now())

    def forget_readings(self, job_id: int, purpose: Purpose) -> None:
        """Begin the readings anew."""
        with self._context.change() as work:
            last = work.passes.latest(job_id, _KIND[purpose])
            if last is not None:
                work.passes.keep_result(last.id, ReadingsResult())
        session = self._of(job_id, purpose)
        if session is not None:
            session.kept = {}

    def _keepers(self, job_id: int, purpose: Purpose) -> Keepers:
        def reading(channel: str, level_db: float) -> None:
            with self._context.change() as work:
                self._keep_in(work, job_id, purpose, channel, level_db)

        def average(options: LiveOptions, found: MovingAverage) -> None:
            self._taking.keep_moving(
                job_id,
                options.channel,
                options.spot,
                level_db=found.level_db,
                quality=found.quality,
                cautions=found.cautions,
            )

        return Keepers(reading=reading, average=average, now=self._context.now)

    def _take_over(self, session: LiveSession) -> None:
        self._session = session

    def _of(self, job_id: int, purpose: Purpose) -> LiveSession | None:
        session = self._session
        return session if session is not None and session.job.id == job_id and session.purpose == purpose else None


def _first_options(purpose: Purpose) -> LiveOptions:
    if purpose in ("spectrum", "moving"):
        return LiveOptions(source=Source(kind="pink", level_dbfs=-30.0))
    return LiveOptions()
