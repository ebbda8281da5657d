"""Sound without an end: meter, spectrum, sources, the level that comes up, reference level, subs beside each other.

One session at a time, as a pass of the sound thread, so that nothing else sounds meanwhile. What is asked for can be
changed while it runs. A session ends by itself when it has done its work, and when no page looks at it any more.
"""

import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, PassRecord, TakeRecord
from dolce.core.levels import LiveMeter, LiveReading, LiveSpectrum, dbfs_rms, peak_dbfs, power_db
from dolce.core.response import Quality, moving_average_level_db
from dolce.core.rig import START_DBFS, RampStep, SubMatch, ramp_step, reference_source
from dolce.core.signals import PERIOD_S, Source, SourcePlayer
from dolce.devices.interface import Progress, SoundStopped, Stopped
from dolce.devices.rehearsal import RehearsalRig
from dolce.errors import Conflict, InvalidValue
from dolce.formats.audio_file import write_wav_24
from dolce.services.context import Context
from dolce.services.sound_work import SoundWork
from dolce.services.take_making import device_of, require_open
from dolce.services.taking import Taking
from dolce.store import UnitOfWork

Purpose = Literal["meter", "spectrum", "moving", "ramp", "reference", "subs"]
# Kinds of passes: readings of the two last ones are kept with them.
_KIND: dict[Purpose, str] = {"reference": "reference", "subs": "subs"}
AVERAGES_S: dict[str, float | None] = {"1 s": 1.0, "3 s": 3.0, "10 s": 10.0, "since the start": None}
MOVING_S, SETTLE_S = 20.0, 0.8
_FILE_PERIODS = 6
_RAMP_QUIET_S, _RAMP_EVERY_S = 1.5, 1.0
_BY_HAND_SPEED = 10.0                    # in a rehearsal that need not take its time, but waits for a person
_UNSEEN_S = 15.0                         # without a page that looks, sound ends


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveWish:
    """What is to be heard and how it is looked at.

    Attributes
    ----------
    channel : str
        That plays the source; empty for none.
    meaning_time_s : float
        Of the meter's equivalent level.
    average : a key of AVERAGES_S
        Of the spectrum.
    per_octave : int
        Bands of the spectrum.
    weighting, time : str
        What the meter shows large.
    spot : int
        Where the microphone stands, or around which it is carried.
    automatic : bool
        One channel after the other without a hand.
    compared : int
        Number of a kept moving average that the spectrum is compared with; 0 for none.
    top_db : float or None
        Upper end of the spectrum's scale in dBFS; None until the first look.
    """

    source: Source = field(default_factory=Source)
    channel: str = ""
    meaning_time_s: float = 10.0
    average: str = "3 s"
    per_octave: int = 12
    weighting: str = "C"
    time: str = "slow"
    spot: int = 1
    automatic: bool = False
    compared: int = 0
    top_db: float | None = None

    def __post_init__(self) -> None:
        if self.average not in AVERAGES_S:
            raise InvalidValue(f"{self.average!r} is not offered.", where="average",
                               remedy=f"Choose {', '.join(AVERAGES_S)}.")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Bands:
    """Levels in bands: mid-band frequencies in Hz, dBFS with the microphone's curve taken out.

    `label` is the channel that played, or "the room".
    """

    label: str
    per_octave: int
    frequency_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LiveView:
    """One look at a session, or at what is left of the last one; `last_pass` is None while it runs.

    Attributes
    ----------
    running : bool
        Whether this job's session of this purpose sounds or listens now.
    seconds : float
        Since the channel or the source was last changed.
    ready : bool
        Whether the reading has settled enough to be kept.
    kept : mapping of channel to dB
        Readings of the purposes that keep some, dBFS with C.
    """

    job: Job
    purpose: Purpose
    wish: LiveWish
    running: bool
    reading: LiveReading | None
    bands: Bands | None
    frozen: Bands | None
    seconds: float
    averaged_s: float
    ready: bool
    ramp: RampStep | None
    kept: Mapping[str, float]
    last_pass: PassRecord | None


class LiveSound:
    """Live sessions of all jobs, one at a time."""

    def __init__(self, context: Context, sound: SoundWork, taking: Taking) -> None:
        self._context, self._sound, self._taking = context, sound, taking
        self._wishes: dict[tuple[int, Purpose], LiveWish] = {}
        self._frozen: dict[int, Bands] = {}
        self._session: _Session | None = None
        self._compared: TakeRecord | None = None

    # Looking

    def view(self, job_id: int, purpose: Purpose) -> LiveView:
        """The state now; also tells the session that somebody looks.

        While it runs, everything is at hand: pages ask several times a second, and the store is left alone.
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
        return self._seen(job, purpose, look if session is not None else None, running=False, last=last,
                          kept=dict(last.result.get("kept", {})) if last is not None else {})

    def _seen(self, job: Job, purpose: Purpose, look: "_Look | None", *, running: bool, kept: Mapping[str, float],
              last: PassRecord | None) -> LiveView:
        return LiveView(
            job=job, purpose=purpose, wish=self.wish(job.id, purpose), running=running, kept=kept, last_pass=last,
            reading=look and look.reading, bands=look and look.bands, frozen=self._frozen.get(job.id),
            seconds=look.seconds if look else 0.0, averaged_s=look.averaged_s if look else 0.0,
            ready=bool(look and look.ready), ramp=look and look.ramp)

    def wish(self, job_id: int, purpose: Purpose) -> LiveWish:
        """What was asked for last."""
        session = self._of(job_id, purpose)
        if session is not None:
            return session.wish
        return self._wishes.get((job_id, purpose)) or _first_wish(purpose)

    # Asking

    def start(self, job_id: int, purpose: Purpose, **changes: object) -> PassRecord:
        """Begin; Conflict where something sounds already."""
        wish = replace(self.wish(job_id, purpose), **changes)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            kind = _KIND.get(purpose, "live")
            last = work.passes.latest(job_id, kind)
        job.spot(wish.spot)
        if wish.channel:
            job.speaker(wish.channel)
            if purpose in ("moving", "ramp", "reference", "subs"):
                require_open(job, [wish.channel])
        wish = replace(wish, top_db=None) if purpose == "moving" else wish
        session = _Session(self, job, purpose, wish)
        state = self._wishes[(job_id, purpose)] = session.wish
        session.kept = dict(last.result.get("kept", {})) if last is not None and purpose in _KIND else {}
        result = {"kept": dict(last.result.get("kept", {}))} if last is not None and purpose in _KIND else None

        def step(_channel: str, _spot: int, progress: Progress, stopped: Stopped):
            return session.run(progress, stopped)

        record = self._sound.start(job_id, kind=kind, steps=[(state.channel, state.spot)], step=step, result=result,
                                   seconds_per_step=MOVING_S if purpose == "moving" else 0.0,
                                   before=lambda: self._take_over(session))
        return record

    def change(self, job_id: int, purpose: Purpose, **changes: object) -> None:
        """Change what is asked for, at once where it runs."""
        wish = replace(self.wish(job_id, purpose), **changes)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        if wish.channel:
            job.speaker(wish.channel)
        session = self._of(job_id, purpose)
        if session is not None:
            session.change(wish, job)
        self._wishes[(job_id, purpose)] = wish

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
        wish = self.wish(job_id, purpose)
        with self._context.look() as work:
            rig = work.jobs.get(job_id).rig
        source = wish.source
        over = source.peak_dbfs(rig.sample_rate_hz) - source.level_dbfs if source.kind != "silence" else 0.0
        most = min(-3.0, np.floor((rig.ceiling_dbfs - over) * 10) / 10)
        level = max(-90.0, min(most, round(source.level_dbfs + change_db, 2)))
        self.change(job_id, purpose, source=replace(source, level_dbfs=level))

    def move_scale(self, job_id: int, change_db: float) -> None:
        """The scale of the spectrum up or down."""
        top = self.wish(job_id, "spectrum").top_db
        if top is not None:
            self.change(job_id, "spectrum", top_db=top + change_db)

    def source_file(self, job_id: int, purpose: Purpose) -> tuple[bytes, str]:
        """The source as 24-bit WAV for any player, 33 s long, and its file name."""
        with self._context.look() as work:
            rate = work.jobs.get(job_id).rig.sample_rate_hz
        source = self.wish(job_id, purpose).source
        if source.kind == "silence":
            raise Conflict("no source is chosen.", where="source", remedy="Choose one and use it.")
        samples = source.block(0, round(_FILE_PERIODS * PERIOD_S * rate), sample_rate_hz=rate)
        return (write_wav_24(samples, sample_rate_hz=rate),
                f"dolce-{source.kind}-{abs(source.level_dbfs):g}-below-full-scale-{rate}Hz.wav")

    def compared_take(self, job_id: int) -> TakeRecord | None:
        """The kept average that the spectrum is compared with; read once."""
        wanted = self.wish(job_id, "spectrum").compared
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
        if session is None or not session.look().ready:
            raise Conflict("the reading has not settled yet.", where="meter", remedy="Wait until it has.")
        with self._context.change() as work:
            self.keep_in(work, job_id, purpose, session.wish.channel, session.steady_db())

    def keep_in(self, work: UnitOfWork, job_id: int, purpose: Purpose, channel: str, level_db: float) -> None:
        """Keep a reading of a channel with its pass, and in the logbook."""
        last = work.passes.latest(job_id, _KIND[purpose])
        job = work.jobs.get(job_id)
        offset = job.rig.full_scale_spl_db
        kept = {**last.result.get("kept", {}), channel: round(level_db, 2)}
        work.passes.keep_result(last.id, {**last.result, "kept": kept})
        session = self._of(job_id, purpose)
        if session is not None:
            session.kept = kept
        said = f"{level_db + offset:.1f} dB SPL" if offset is not None else f"{level_db:.1f} dBFS"
        what = "Reference level" if purpose == "reference" else "Subs beside each other"
        work.logbook.add(job_id, f"{what}: {channel} reads {said}, C.", at=self._context.now())

    def forget_readings(self, job_id: int, purpose: Purpose) -> None:
        """Begin the readings anew."""
        with self._context.change() as work:
            last = work.passes.latest(job_id, _KIND[purpose])
            if last is not None:
                work.passes.keep_result(last.id, {**last.result, "kept": {}})
        session = self._of(job_id, purpose)
        if session is not None:
            session.kept = {}

    def keep_moving(self, work_job: Job, channel: str, spot: int, average: "_MovingAverage") -> None:
        """Keep a moving average as a take."""
        self._taking.keep_moving(work_job.id, channel, spot, level_db=average.level_db, quality=average.quality,
                                 warnings=average.warnings)

    @property
    def context(self) -> Context:
        return self._context

    def _take_over(self, session: "_Session") -> None:
        self._session = session

    def _of(self, job_id: int, purpose: Purpose) -> "_Session | None":
        session = self._session
        return session if session is not None and session.job.id == job_id and session.purpose == purpose else None


def _first_wish(purpose: Purpose) -> LiveWish:
    if purpose in ("spectrum", "moving"):
        return LiveWish(source=Source(kind="pink", level_dbfs=-30.0))
    return LiveWish()


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Look:
    reading: LiveReading
    bands: Bands | None
    seconds: float
    averaged_s: float
    ready: bool
    ramp: RampStep | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _MovingAverage:
    level_db: NDArray[np.float64]
    quality: Quality
    warnings: tuple[str, ...]


class _Session:
    """One session: what plays, what is heard, and what was asked. Its lock guards both threads' view of it."""

    def __init__(self, live: LiveSound, job: Job, purpose: Purpose, wish: LiveWish) -> None:
        self._live, self.job, self.purpose = live, job, purpose
        self._lock = threading.RLock()
        self._rate = job.rig.sample_rate_hz
        self._finished = False
        self.over, self.kept = False, {}
        self._seen = time.monotonic()
        self._ramp: RampStep | None = None
        self._noise_dbfs = -200.0
        self._before_power = np.zeros(0)
        self.wish = self._fitting(wish)
        self._player = SourcePlayer(self._source(), output=self._output(), sample_rate_hz=self._rate)
        self._meter = LiveMeter(sample_rate_hz=self._rate, meaning_time_s=self._meaning_s())
        self._spectrum = self._new_spectrum()
        self._quiet_player = SourcePlayer(Source(), output=None, sample_rate_hz=self._rate)
        self._at = 0                              # samples since the last change of what plays
        self._heard: list[NDArray[np.float64]] = []
        self._device: object = None
        self._hearing = self._hear_first if purpose in ("ramp", "moving") else self._hear

    # Asked by pages

    def seen(self) -> None:
        self._seen = time.monotonic()

    def look(self) -> _Look:
        with self._lock:
            frequency, level = self._spectrum.bands(per_octave=self.wish.per_octave)
            bands = None
            if level.size:
                curve = self.job.rig.curve
                own = power_db(np.abs(curve.on(frequency)) ** 2) if curve is not None else 0.0
                playing = self.wish.channel and self.wish.source.kind != "silence"
                bands = Bands(label=self.wish.channel if playing else "the room", frequency_hz=frequency,
                              per_octave=self.wish.per_octave, level_db=level - own)
            return _Look(reading=self._meter.reading, bands=bands, seconds=self._at / self._rate, ramp=self._ramp,
                         averaged_s=self._spectrum.seconds, ready=self._ready())

    def change(self, wish: LiveWish, job: Job) -> None:
        with self._lock:
            before, self.job = self.wish, job
            self.wish = self._fitting(wish)
            if (self.wish.source, self.wish.channel) != (before.source, before.channel):
                self._player.change(self._source(), output=self._output())
                self._restart()
            self._meter.meaning_time_s = self._meaning_s()
            if self.wish.average != before.average:
                self._spectrum = self._new_spectrum()

    def refresh(self, job: Job) -> None:
        """Another state of the rig, while the same plays."""
        with self._lock:
            before, self.job = self.job, job
            if (job.rig.knobs_db, job.processor) == (before.rig.knobs_db, before.processor):
                return
            if isinstance(self._device, RehearsalRig):
                self._device.becomes(knobs_db=job.rig.knobs_db, processor=job.processor)
            self._restart()

    def reset(self) -> None:
        with self._lock:
            self._meter.reset()
            self._spectrum.reset()

    def finish(self) -> None:
        """End with what there is, as if the work were done."""
        with self._lock:
            if self._ramp is not None:
                self._ramp = replace(self._ramp, level_dbfs=self.wish.source.level_dbfs)
            self._finished = True

    def steady_db(self) -> float:
        """C-weighted equivalent level of the last period of the noise: it repeats to a hundredth of a dB."""
        with self._lock:
            return self._meter.reading.recent_db["C"]

    # Run by the sound thread

    def run(self, progress: Progress, stopped: Stopped):
        """Until stopped, done, or seen by nobody; returns what keeps its result."""
        try:
            device = device_of(self.job, spot_number=self.wish.spot, round_name=self.purpose, attempt=1,
                               moving=self._moving(), close_to_m=self._close_to_m(),
                               subs_at_one_place=self.purpose == "subs" and self._match.way == "same place",
                               real_time=True if self.purpose in ("meter", "spectrum") else None,
                               live_speed=float("inf") if self._ends_by_itself else _BY_HAND_SPEED)
            self._device = device
            device.run_live(self._next_block, lambda block: self._hearing(block, progress), sample_rate_hz=self._rate,
                            stopped=lambda: stopped() or self._finished or self._unseen())
        except SoundStopped:
            if stopped():
                raise
            if not self._finished:
                raise Conflict("no page was looking any more. Sound was ended.", where="live sound",
                               remedy="Open the page and start it again.") from None
        finally:
            self.over = True
        return self._keep

    def _keep(self, work: UnitOfWork) -> None:
        if self.purpose == "ramp" and self._ramp is not None:
            rig = work.jobs.get(self.job.id).rig
            level = round(min(self._ramp.level_dbfs, rig.ceiling_dbfs), 1)
            work.jobs.set_rig(self.job.id, replace(rig, sweep_level_dbfs=max(-60.0, level)))
            work.logbook.add(self.job.id, f"Level came up to {level:g} dBFS on {self.wish.channel}: "
                                          f"{self._ramp.above_noise_db:.0f} dB above noise, "
                                          f"{self._ramp.to_clipping_db:.0f} dB to clipping.",
                             at=self._live.context.now())

    def _next_block(self, count: int) -> tuple[int | None, NDArray[np.float64]]:
        with self._lock:
            quiet = self._hearing == self._hear_first
            return (self._quiet_player if quiet else self._player).next_block(count)

    def _hear_first(self, block: NDArray[np.float64], progress: Progress) -> None:
        """The quiet room, before anything plays."""
        with self._lock:
            self._heard.append(block[0])
            self._spectrum.hear(block)
            self._meter.hear(block[0])
            samples = np.concatenate(self._heard)
            if samples.size >= _RAMP_QUIET_S * self._rate:
                self._noise_dbfs = dbfs_rms(samples)
                self._before_power = self._spectrum.power.copy()
                self._heard = []
                self._hearing = self._hear
                self._restart()

    def _hear(self, block: NDArray[np.float64], progress: Progress) -> None:
        with self._lock:
            self._meter.hear(block[0])
            settled = self._at >= SETTLE_S * self._rate
            if self.purpose != "moving" or settled:
                self._spectrum.hear(block)
            if self.wish.top_db is None and self._spectrum.frames:
                highest = float(self._spectrum.bands(per_octave=3)[1].max())
                self.wish = replace(self.wish, top_db=10.0 * np.ceil((highest + 12) / 10))
            self._at += block.shape[1]
            if self.purpose == "ramp":
                self._ramp_on(block[0])
            elif self.purpose == "moving":
                progress(min(1.0, self._at / self._rate / (MOVING_S + SETTLE_S)))
                if self._at >= (MOVING_S + SETTLE_S) * self._rate:
                    self._keep_moving()
            elif self.wish.automatic and self._ready():
                self._next_channel()

    def _ramp_on(self, samples: NDArray[np.float64]) -> None:
        """A step of the ramp every second, read from the second half of it."""
        self._heard.append(samples)
        heard = np.concatenate(self._heard)
        if heard.size < _RAMP_EVERY_S * self._rate:
            return
        late = heard[heard.size // 2:]
        source = self._player.playing[0]
        self._ramp = ramp_step(source.level_dbfs, heard_dbfs=dbfs_rms(late), peak_dbfs=peak_dbfs(late),
                               noise_dbfs=self._noise_dbfs,
                               peak_above_rms_db=source.peak_dbfs(self._rate) - source.level_dbfs,
                               ceiling_peak_dbfs=self.job.rig.ceiling_dbfs)
        self._heard = []
        if self.wish.automatic:
            if self._ramp.ended:
                self._finished = True
            else:
                self.wish = replace(self.wish, source=replace(source, level_dbfs=self._ramp.level_dbfs))
                self._player.change(self._source(), output=self._output())

    def _keep_moving(self) -> None:
        rig, source = self.job.rig, self._player.playing[0]
        level = moving_average_level_db(self._spectrum.power, _played_power(source, self._rate),
                                        sample_rate_hz=self._rate, microphone=rig.curve,
                                        gain_db=rig.microphone_gain_db)
        above = float(power_db(self._spectrum.power.sum()) - power_db(self._before_power.sum()))
        clipped = self._meter.reading.by_weighting["Z"].peak_db > -0.01
        quality = Quality(signal_to_noise_db=above, clipped_samples=1 if clipped else 0,
                          peak_dbfs=self._meter.reading.by_weighting["Z"].peak_db)
        self._live.keep_moving(self.job, self.wish.channel, self.wish.spot, _MovingAverage(
            level_db=level, quality=quality, warnings=(
                f"Moving-microphone average over {MOVING_S:.0f} s: no arrival, no polarity, no phase.",)))
        self._finished = True

    def _next_channel(self) -> None:
        """Keep the reading and go on; after the last channel the session has done its work."""
        channels = self._in_turn()
        channel = self.wish.channel
        with self._live.context.change() as work:
            self._live.keep_in(work, self.job.id, self.purpose, channel, self.steady_db())
        later = channels[channels.index(channel) + 1:] if channel in channels else ()
        if not later:
            self._finished = True
            return
        self.change(replace(self.wish, channel=later[0]), self.job)

    # What follows from the wish

    @property
    def _match(self) -> SubMatch:
        return self.job.rig.sub_match

    def _in_turn(self) -> tuple[str, ...]:
        if self.purpose == "subs":
            return tuple(s.channel for s in self.job.speakers if s.is_sub)
        return self.job.channels

    def _fitting(self, wish: LiveWish) -> LiveWish:
        """Purposes with a sound of their own choose it by the channel."""
        if self.purpose in ("reference", "subs", "ramp", "moving") and not wish.channel:
            turn = self._in_turn()
            if not turn:
                raise Conflict("there is no sub.", where="subs", remedy="Add one in the Room stop.")
            wish = replace(wish, channel=turn[0])
        if self.purpose == "reference":
            is_sub = self.job.speaker(wish.channel).is_sub
            wish = replace(wish, source=reference_source(is_sub=is_sub))
        elif self.purpose == "subs":
            wish = replace(wish, source=self._match.source)
        elif self.purpose == "ramp" and self._ramp is None and wish.source.kind != "pink":
            wish = replace(wish, source=Source(kind="pink", level_dbfs=START_DBFS))
        elif self.purpose == "moving":
            wish = replace(wish, average="since the start")
        return wish

    def _source(self) -> Source:
        return self.wish.source if self.wish.channel else Source()

    def _output(self) -> int | None:
        return self.job.speaker(self.wish.channel).output if self.wish.channel else None

    def _meaning_s(self) -> float:
        return PERIOD_S if self.purpose in ("reference", "subs") else self.wish.meaning_time_s

    def _new_spectrum(self) -> LiveSpectrum:
        return LiveSpectrum(sample_rate_hz=self._rate, average_s=AVERAGES_S[self.wish.average])

    def _moving(self) -> tuple[int, ...]:
        if self.purpose != "moving":
            return ()
        seat = self.job.spot(self.wish.spot).seat_id
        return tuple(spot.number for spot in self.job.plan.spots_of(seat))

    def _close_to_m(self) -> float | None:
        close = self.purpose == "subs" and self._match.way == "close"
        return self._match.distance_m if close else None

    def _ready(self) -> bool:
        """Whether a whole period of the noise was heard since the last change."""
        return self._at >= (SETTLE_S + PERIOD_S) * self._rate

    def _restart(self) -> None:
        self._at = 0
        self._meter.reset()
        self._spectrum.reset()

    @property
    def _ends_by_itself(self) -> bool:
        return self.wish.automatic or self.purpose == "moving"

    def _unseen(self) -> bool:
        """Whether sound goes on for nobody; what ends by itself needs no eyes."""
        if self._ends_by_itself:
            return False
        return time.monotonic() - self._seen > _UNSEEN_S


@lru_cache(maxsize=4)
def _played_power(source: Source, sample_rate_hz: int) -> NDArray[np.float64]:
    """Power per line of what a source plays, by the same spectrum that hears it."""
    spectrum = LiveSpectrum(sample_rate_hz=sample_rate_hz)
    spectrum.hear(source.block(0, round(2 * PERIOD_S * sample_rate_hz), sample_rate_hz=sample_rate_hz))
    return spectrum.power
