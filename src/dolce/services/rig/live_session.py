"""One live session: what plays, what is heard, and what follows from what was asked."""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.dsp import dbfs_rms, peak_dbfs, power_db
from dolce.core.filters import BandFilter
from dolce.core.job import Job, PassResult
from dolce.core.levels import LiveMeter, LiveReading, LiveSpectrum, Weighting
from dolce.core.response import Caution, Quality, moving_average_level_db
from dolce.core.rig import START_DBFS, RampStep, SubMatch, ramp_step, reference_source
from dolce.core.signals import PERIOD_S, FilteredSource, Source, SourcePlayer
from dolce.core.signals.source import Steady
from dolce.devices.interface import AudioDevice, Progress, SoundStopped, Stopped
from dolce.devices.opening import audio_of
from dolce.errors import Conflict, InvalidValue
from dolce.services.sound.sound_work import Keep
from dolce.store import UnitOfWork

Purpose = Literal["meter", "spectrum", "moving", "ramp", "reference", "subs", "band"]
AVERAGES_S: dict[str, float | None] = {"1 s": 1.0, "3 s": 3.0, "10 s": 10.0, "since the start": None}
MOVING_S, SETTLE_S = 20.0, 0.8
_RAMP_QUIET_S, _RAMP_EVERY_S = 1.5, 1.0
_BY_HAND_SPEED = 10.0  # in a rehearsal that need not take its time, but waits for a person
BAND_TURN_S = 2.5  # how long a band is in, and how long out, while it is switched by itself
_UNSEEN_S = 15.0  # without a page that looks, sound ends


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveOptions:
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
        Id; 0 for the first one of the job.
        Where the microphone stands, or around which it is carried.
    automatic : bool
        One channel after the other without a hand.
    compared : int
        Number of a kept moving average that the spectrum is compared with; 0 for none.
    top_db : float or None
        Upper end of the spectrum's scale in dBFS; None until the first look.
    chain : tuple of BandFilter
        What the source goes through, for "band".
    switched : int
        Place in it of the one that goes in and out.
    band_in : bool
        Whether that is in.
    """

    source: Source = field(default_factory=Source)
    channel: str = ""
    meaning_time_s: float = 10.0
    average: str = "3 s"
    per_octave: int = 12
    weighting: Weighting = "C"
    time: Literal["fast", "slow"] = "slow"
    spot: int = 0
    automatic: bool = False
    compared: int = 0
    top_db: float | None = None
    chain: tuple[BandFilter, ...] = ()
    switched: int = 0
    band_in: bool = True

    def __post_init__(self) -> None:
        if self.average not in AVERAGES_S:
            raise InvalidValue(
                f"{self.average!r} is not offered.", where="average", remedy=f"Choose {', '.join(AVERAGES_S)}."
            )


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
class SessionLook:
    """What a page sees of a session."""

    reading: LiveReading
    bands: Bands | None
    seconds: float
    averaged_s: float
    settles_in_s: float
    ramp: RampStep | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MovingAverage:
    """Level on the analysis grid, relative to what played, and how far it can be trusted."""

    level_db: NDArray[np.float64]
    quality: Quality
    cautions: tuple[Caution, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Keepers:
    """Where a session puts what it found: a channel's reading in dBFS, a moving average, and the clock."""

    reading: Callable[[str, float], None]
    average: Callable[["LiveOptions", MovingAverage], None]
    now: Callable[[], datetime]


class LiveSession:
    """One session: what plays, what is heard, and what was asked. Its lock guards both threads' view of it."""

    def __init__(self, keepers: Keepers, job: Job, purpose: Purpose, options: LiveOptions) -> None:
        self._keepers, self.job, self.purpose = keepers, job, purpose
        self._lock = threading.RLock()
        self._rate = job.rig.sample_rate_hz
        self._finished = False
        self.over = False
        self.kept: dict[str, float] = {}
        self._seen = time.monotonic()
        self._ramp: RampStep | None = None
        self._noise_dbfs = -200.0
        self._before_power = np.zeros(0)
        if purpose == "ramp":
            options = replace(options, source=Source(kind="pink", level_dbfs=START_DBFS))  # wherever it ended before
        self.options = self._fitting(options)
        self._player = SourcePlayer(self._source(), output=self._output(), sample_rate_hz=self._rate)
        self._meter = LiveMeter(sample_rate_hz=self._rate, meaning_time_s=self._meaning_s())
        self._spectrum = self._new_spectrum()
        self._quiet_player = SourcePlayer(Source(), output=None, sample_rate_hz=self._rate)
        self._at = 0  # samples since the last change of what plays
        self._heard: list[NDArray[np.float64]] = []
        self._device: AudioDevice | None = None
        self._hearing = self._hear_first if purpose in ("ramp", "moving") else self._hear

    # Asked by pages

    def seen(self) -> None:
        self._seen = time.monotonic()

    def look(self) -> SessionLook:
        with self._lock:
            frequency, level = self._spectrum.bands(per_octave=self.options.per_octave)
            bands = None
            if level.size:
                curve = self.job.rig.curve
                curve_db = power_db(np.abs(curve.on(frequency)) ** 2) if curve is not None else 0.0
                playing = self.options.channel and self.options.source.kind != "silence"
                bands = Bands(
                    label=self.options.channel if playing else "the room",
                    frequency_hz=frequency,
                    per_octave=self.options.per_octave,
                    level_db=level - curve_db,
                )
            return SessionLook(
                reading=self._meter.reading,
                bands=bands,
                seconds=self._at / self._rate,
                ramp=self._ramp,
                averaged_s=self._spectrum.seconds,
                settles_in_s=max(0.0, SETTLE_S + PERIOD_S - self._at / self._rate),
            )

    def change(self, options: LiveOptions, job: Job) -> None:
        with self._lock:
            before, self.job = self.options, job
            self.options = self._fitting(options)
            if (self.options.source, self.options.channel, self.options.band_in) != (
                before.source,
                before.channel,
                before.band_in,
            ):
                self._player.change(self._source(), output=self._output())
                self._restart()
            self._meter.meaning_time_s = self._meaning_s()
            if self.options.average != before.average:
                self._spectrum = self._new_spectrum()

    def refresh(self, job: Job) -> None:
        """Another state of the rig, while the same plays."""
        with self._lock:
            before, self.job = self.job, job
            if (job.rig.rehearsal.knobs_db, job.simulated) == (before.rig.rehearsal.knobs_db, before.simulated):
                return
            if self._device is not None:
                self._device.becomes(knobs_db=job.rig.rehearsal.knobs_db, processor=job.simulated)
            self._restart()

    def reset(self) -> None:
        with self._lock:
            self._meter.reset()
            self._spectrum.reset()

    def finish(self) -> None:
        """End with what there is, as if the work were done."""
        with self._lock:
            if self._ramp is not None:
                self._ramp = replace(self._ramp, level_dbfs=self.options.source.level_dbfs)
            self._finished = True

    def steady_db(self) -> float:
        """C-weighted equivalent level of the last period of the noise: it repeats to a hundredth of a dB."""
        with self._lock:
            return self._meter.reading.recent_db["C"]

    # Run by the sound thread

    def run(self, progress: Progress, stopped: Stopped) -> Keep:
        """Until stopped, done, or seen by nobody; returns what keeps its result."""
        try:
            device = audio_of(
                self.job,
                spot_id=self.options.spot,
                round_name=self.purpose,
                attempt=1,
                moving=self._moving(),
                close_to_m=self._close_to_m(),
                subs_at_one_place=self.purpose == "subs" and self._match.placing == "same place",
                real_time=True if self.purpose in ("meter", "spectrum", "band") else None,
                live_speed=float("inf") if self._ends_by_itself else _BY_HAND_SPEED,
            )
            self._device = device
            device.run_live(
                self._next_block,
                lambda block: self._hearing(block, progress),
                sample_rate_hz=self._rate,
                stopped=lambda: stopped() or self._finished or self._unseen(),
            )
        except SoundStopped:
            if stopped():
                raise
            if not self._finished:
                raise Conflict(
                    "no page was looking any more. Sound was ended.",
                    where="live sound",
                    remedy="Open the page and start it again.",
                ) from None
        return self._keep

    def end(self) -> None:
        """It runs no more, or was stopped before it began."""
        self.over = True

    def _keep(self, work: UnitOfWork, _found: PassResult) -> None:
        if self.purpose == "ramp" and self._ramp is not None:
            rig = work.jobs.get(self.job.id).rig
            level = round(min(self._ramp.level_dbfs, rig.levels.ceiling_dbfs), 1)
            work.jobs.set_rig(self.job.id, rig.changed(sweep_level_dbfs=max(-60.0, level)))
            work.logbook.add(
                self.job.id,
                f"Level came up to {level:g} dBFS on {self.options.channel}: "
                f"{self._ramp.above_noise_db:.0f} dB above noise, "
                f"{self._ramp.to_clipping_db:.0f} dB to clipping.",
                at=self._keepers.now(),
            )

    def _next_block(self, count: int) -> dict[int, NDArray[np.float64]]:
        with self._lock:
            quiet = self._hearing == self._hear_first
            output, samples = (self._quiet_player if quiet else self._player).next_block(count)
            return {} if output is None else {output: samples}

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
            if self.options.top_db is None and self._spectrum.frames:
                highest = float(self._spectrum.bands(per_octave=3)[1].max())
                self.options = replace(self.options, top_db=10.0 * np.ceil((highest + 12) / 10))
            self._at += block.shape[1]
            if self.purpose == "ramp":
                self._ramp_on(block[0])
            elif self.purpose == "moving":
                progress(min(1.0, self._at / self._rate / (MOVING_S + SETTLE_S)))
                if self._at >= (MOVING_S + SETTLE_S) * self._rate:
                    self._keep_moving()
            elif self.purpose == "band":
                if self.options.automatic and self._at >= BAND_TURN_S * self._rate:
                    self.change(replace(self.options, band_in=not self.options.band_in), self.job)
            elif self.options.automatic and self._ready():
                self._next_channel()

    def _ramp_on(self, samples: NDArray[np.float64]) -> None:
        """A step of the ramp every second, read from the second half of it."""
        self._heard.append(samples)
        recorded = np.concatenate(self._heard)
        if recorded.size < _RAMP_EVERY_S * self._rate:
            return
        late = recorded[recorded.size // 2 :]
        source = self._player.playing[0]
        self._ramp = ramp_step(
            source.level_dbfs,
            heard_dbfs=dbfs_rms(late),
            peak_dbfs=peak_dbfs(late),
            noise_dbfs=self._noise_dbfs,
            peak_above_rms_db=source.peak_dbfs(self._rate) - source.level_dbfs,
            ceiling_peak_dbfs=self.job.rig.levels.ceiling_dbfs,
        )
        self._heard = []
        if self.options.automatic and self._ramp.ended:
            self._finished = True
        elif self.options.automatic or self._ramp.word == "clipping":
            # By hand nothing moves by itself but away from clipping.
            self.options = replace(self.options, source=replace(self.options.source, level_dbfs=self._ramp.level_dbfs))
            self._player.change(self._source(), output=self._output())

    def _keep_moving(self) -> None:
        rig, source = self.job.rig, self._player.playing[0]
        level = moving_average_level_db(
            self._spectrum.power,
            _played_power(source, self._rate),
            sample_rate_hz=self._rate,
            microphone=rig.curve,
            gain_db=rig.levels.microphone_gain_db,
        )
        above = float(power_db(self._spectrum.power.sum()) - power_db(self._before_power.sum()))
        clipped = self._meter.reading.by_weighting["Z"].peak_db > -0.01
        quality = Quality(
            signal_to_noise_db=above,
            clipped_samples=1 if clipped else 0,
            peak_dbfs=self._meter.reading.by_weighting["Z"].peak_db,
        )
        self._keepers.average(
            self.options,
            MovingAverage(level_db=level, quality=quality, cautions=(Caution(kind="moving", value=MOVING_S),)),
        )
        self._finished = True

    def _next_channel(self) -> None:
        """Keep the reading and go on; after the last channel the session has done its work."""
        channels = self._in_turn()
        channel = self.options.channel
        self._keepers.reading(channel, self.steady_db())
        later = channels[channels.index(channel) + 1 :] if channel in channels else ()
        if not later:
            self._finished = True
            return
        self.change(replace(self.options, channel=later[0]), self.job)

    # What follows from the options

    @property
    def _match(self) -> SubMatch:
        return self.job.rig.sub_match

    def _in_turn(self) -> tuple[str, ...]:
        if self.purpose == "subs":
            return tuple(s.channel for s in self.job.speakers if s.is_sub)
        return self.job.channels

    def _fitting(self, options: LiveOptions) -> LiveOptions:
        """Purposes with a sound of their own choose it by the channel."""
        if self.purpose in ("reference", "subs", "ramp", "moving") and not options.channel:
            turn = self._in_turn()
            if not turn:
                raise Conflict("there is no sub.", where="subs", remedy="Add one in the Room stop.")
            options = replace(options, channel=turn[0])
        if self.purpose == "reference":
            is_sub = self.job.speaker(options.channel).is_sub
            options = replace(options, source=reference_source(is_sub=is_sub))
        elif self.purpose == "subs":
            options = replace(options, source=self._match.source)
        elif self.purpose == "moving":
            options = replace(options, average="since the start")
        return options

    def _source(self) -> Source | FilteredSource:
        options = self.options
        if not options.channel:
            return Source()
        if self.purpose != "band":
            return options.source
        chain = (
            options.chain
            if options.band_in
            else (*options.chain[: options.switched], *options.chain[options.switched + 1 :])
        )
        return FilteredSource(source=options.source, filters=chain)

    def _output(self) -> int | None:
        return self.job.speaker(self.options.channel).output if self.options.channel else None

    def _meaning_s(self) -> float:
        return PERIOD_S if self.purpose in ("reference", "subs") else self.options.meaning_time_s

    def _new_spectrum(self) -> LiveSpectrum:
        return LiveSpectrum(sample_rate_hz=self._rate, average_s=AVERAGES_S[self.options.average])

    def _moving(self) -> tuple[int, ...]:
        if self.purpose != "moving":
            return ()
        seat = self.job.spot(self.options.spot).seat_id
        if seat is None:
            return (self.options.spot,)
        return tuple(spot.id for spot in self.job.plan.spots_of(seat))

    def _close_to_m(self) -> float | None:
        close = self.purpose == "subs" and self._match.placing == "close"
        return self._match.distance_m if close else None

    def _ready(self) -> bool:
        """Whether a whole period of the noise was heard since the last change."""
        return self._at >= (SETTLE_S + PERIOD_S) * self._rate

    def _restart(self) -> None:
        self._at, self._heard = 0, []
        self._meter.reset()
        self._spectrum.reset()

    @property
    def _ends_by_itself(self) -> bool:
        return self.purpose == "moving" or (self.options.automatic and self.purpose != "band")

    def _unseen(self) -> bool:
        """Whether sound goes on for nobody; what ends by itself needs no eyes."""
        if self._ends_by_itself:
            return False
        return time.monotonic() - self._seen > _UNSEEN_S


@cache(4)
def _played_power(source: Steady, sample_rate_hz: int) -> NDArray[np.float64]:
    """Power per line of what a source plays, by the same spectrum that hears it."""
    spectrum = LiveSpectrum(sample_rate_hz=sample_rate_hz)
    spectrum.hear(source.block(0, round(2 * PERIOD_S * sample_rate_hz), sample_rate_hz=sample_rate_hz))
    return spectrum.power
