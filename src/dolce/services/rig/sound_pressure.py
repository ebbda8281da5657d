"""From full scale to sound pressure: calibrator or meter, and the noise of the quiet room."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from dolce.core.checked import Range
from dolce.core.job import Job, NoiseResult, PassRecord, PassResult, result_as, result_of
from dolce.core.levels import SoundLevelMeter, band_levels_db
from dolce.core.rig import (
    RoomNoise,
    full_scale_by_sensitivity_db,
    implausible_full_scale,
    noise_third_octave_dbfs,
    room_noise,
)
from dolce.core.signals import pink_noise
from dolce.devices.interface import Progress, Stopped
from dolce.devices.opening import audio_of
from dolce.devices.rehearsal import FULL_SCALE_SPL_DB
from dolce.errors import Conflict, InvalidValue
from dolce.services.context import Context
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.store import UnitOfWork

LISTEN_S, CALIBRATOR_S, NOISE_S = 5.0, 2.0, 5.0
CALIBRATOR_LEVELS_DB = (94.0, 114.0)  # at 1 kHz, IEC 60942
REFERENCE_DBFS = -30.0  # RMS of the noise that a meter is held against
_TONE_ABOVE_DB = 20.0
METER_READING_DB = Range(40, 120, "meter reading", "dB")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PressureView:
    """What is known of pressure and noise.

    Attributes
    ----------
    noise : None before the first listening
    reference_dbfs : C-weighted level of the last noise played for a meter, slow; None before
    rehearsed_db : what a meter would read beside the microphone, in the rehearsal; None elsewhere
    doubt : why the level of full scale can hardly be right, and the figure that says so; None where it can
    """

    job: Job
    noise: RoomNoise | None
    last_pass: PassRecord | None
    reference_dbfs: float | None
    rehearsed_db: float | None
    doubt: tuple[str, float] | None


class SoundPressure:
    """Absolute levels of one job's rig."""

    def __init__(self, context: Context, sound: SoundWork) -> None:
        self._context = context
        self._sound = sound

    def view(self, job_id: int) -> PressureView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, "noise")
        kept = result_of(NoiseResult, last)
        noise = None
        if kept.third_octave_dbfs:
            noise = room_noise(
                np.array(kept.third_octave_dbfs),
                full_scale_spl_db=job.rig.levels.full_scale_spl_db,
                signal_third_octave_dbfs=np.full(len(kept.third_octave_dbfs), kept.signal_dbfs)
                if kept.signal_dbfs is not None
                else None,
            )
        reference = kept.reference_dbfs
        rehearsed = (
            reference + FULL_SCALE_SPL_DB - job.rig.levels.microphone_gain_db
            if reference is not None and job.rig.interface.simulated
            else None
        )
        return PressureView(
            job=job,
            noise=noise,
            last_pass=last,
            reference_dbfs=reference,
            rehearsed_db=rehearsed,
            doubt=_doubt(job, kept),
        )

    def listen(self, job_id: int) -> PassRecord:
        """Five seconds of the quiet room; then a short burst of noise on the first channel, to compare with."""

        def heard(job: Job, progress: Progress, stopped: Stopped) -> dict:
            rate = job.rig.sample_rate_hz
            quiet = _recorded(job, np.zeros(round(LISTEN_S * rate)), progress, stopped)
            noise = _noise(job, seconds=1.0, level_dbfs=job.rig.levels.sweep_level_dbfs)
            playing = _recorded(job, noise, progress, stopped)
            level = SoundLevelMeter("Z", sample_rate_hz=rate).hear(playing[round(0.2 * rate) :]).equivalent_db
            return {
                "third_octave_dbfs": tuple(noise_third_octave_dbfs(quiet, sample_rate_hz=rate).tolist()),
                "signal_dbfs": level,
            }

        return self._start(job_id, heard, seconds=LISTEN_S + 1)

    def calibrate(self, job_id: int, level_db: float) -> PassRecord:
        """Listen to an acoustic calibrator on the microphone; 94 or 114 dB at 1 kHz."""
        if level_db not in CALIBRATOR_LEVELS_DB:
            raise InvalidValue(
                f"{level_db:g} dB is not a calibrator's level.", where="calibrator", remedy="Choose 94 or 114 dB."
            )

        def heard(job: Job, progress: Progress, stopped: Stopped) -> dict:
            rate = job.rig.sample_rate_hz
            recording = _recorded(job, np.zeros(round(CALIBRATOR_S * rate)), progress, stopped, calibrator_db=level_db)
            tone, beside = band_levels_db(recording, [1000.0, 250.0], per_octave=1, sample_rate_hz=rate)
            if tone < beside + _TONE_ABOVE_DB or tone < -80:
                raise InvalidValue(
                    "no steady tone of 1 kHz was heard.",
                    where="calibrator",
                    remedy="Push the calibrator fully onto the microphone, switch it on, and try again.",
                )
            if np.abs(recording).max() > 0.99:
                raise InvalidValue(
                    "the calibrator drives the input into clipping.",
                    where="calibrator",
                    remedy="Turn the microphone gain down, or use 94 dB.",
                )
            return {"full_scale_spl_db": level_db - float(tone)}

        return self._start(job_id, heard, seconds=CALIBRATOR_S)

    def play_reference(self, job_id: int) -> PassRecord:
        """Pink noise on the first channel, for a meter held beside the microphone."""

        def heard(job: Job, progress: Progress, stopped: Stopped) -> dict:
            recording = _recorded(job, _noise(job, seconds=NOISE_S, level_dbfs=REFERENCE_DBFS), progress, stopped)
            meter = SoundLevelMeter("C", sample_rate_hz=job.rig.sample_rate_hz)
            return {"reference_dbfs": meter.hear(recording).slow_db}

        return self._start(job_id, heard, seconds=NOISE_S)

    def type_reading(self, job_id: int, reading_db: float) -> None:
        """What a meter (C, slow) read while the noise played, in dB SPL."""
        METER_READING_DB.holds(reading_db)
        reference = self.view(job_id).reference_dbfs
        if reference is None:
            raise Conflict("no noise was played for the meter yet.", where="meter reading", remedy="Play it first.")
        with self._context.change() as work:
            self._set_full_scale(work, job_id, reading_db - reference, f"by a meter reading of {reading_db:g} dB")

    def use_sensitivity(self, job_id: int, full_scale_dbu: float) -> None:
        """From the leading microphone's sensitivity and the level that drives its input to full scale, in dBu."""
        with self._context.change() as work:
            used = work.jobs.get(job_id).rig.microphones
            microphone = used[0].microphone if used else None
            if microphone is None or microphone.sensitivity_mv_pa is None:
                raise Conflict(
                    "the microphone's sensitivity is not known.",
                    where="sound pressure",
                    remedy="Type it on the Microphones sheet, from the paper that came with the microphone.",
                )
            level = full_scale_by_sensitivity_db(microphone.sensitivity_mv_pa, full_scale_dbu=full_scale_dbu)
            if not 60 <= level <= 180:
                raise InvalidValue(
                    f"that makes {level:.0f} dB SPL of full scale.",
                    where="sound pressure",
                    remedy="Check the sensitivity, and the level that drives the input to full scale.",
                )
            self._set_full_scale(
                work, job_id, level, f"by the sensitivity of {microphone.name} and {full_scale_dbu:g} dBu at full scale"
            )

    def forget(self, job_id: int) -> None:
        """Back to relative levels."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            work.jobs.set_rig(job_id, rig.changed(full_scale_spl_db=None))

    def _set_full_scale(self, work: UnitOfWork, job_id: int, level_db: float, how: str) -> None:
        rig = work.jobs.get(job_id).rig
        last = work.passes.latest(job_id, "noise")
        if last is not None:
            kept = result_of(NoiseResult, last)
            work.passes.keep_result(last.id, replace(kept, before_spl_db=rig.levels.full_scale_spl_db))
        work.jobs.set_rig(job_id, rig.changed(full_scale_spl_db=round(level_db, 2)))
        work.logbook.add(job_id, f"Full scale is {level_db:.1f} dB SPL, {how}.", at=self._context.now())

    def _start(self, job_id: int, listen: Callable[[Job, Progress, Stopped], dict], *, seconds: float) -> PassRecord:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, "noise")
        spot = job.first_spot.id

        def step(_channel: str, _spot: int, progress: Progress, stopped: Stopped) -> Keep:
            found = listen(job, progress, stopped)

            def keep(work: UnitOfWork, present: PassResult) -> NoiseResult:
                before = result_as(NoiseResult, present)
                full_scale = found.pop("full_scale_spl_db", None)
                if full_scale is not None:
                    level_db = work.jobs.get(job_id).rig.levels.full_scale_spl_db
                    self._set_full_scale(work, job_id, full_scale, "by a calibrator")
                    return replace(before, before_spl_db=level_db)
                return replace(before, **found)

            return keep

        return self._sound.start(
            job_id,
            kind="noise",
            steps=[(job.channels[0], spot)],
            step=step,
            seconds_per_step=seconds,
            result=result_of(NoiseResult, last),
        )


def _doubt(job: Job, kept: NoiseResult) -> tuple[str, float] | None:
    if job.rig.levels.full_scale_spl_db is None:
        return None
    return implausible_full_scale(
        job.rig.levels.full_scale_spl_db,
        before_spl_db=kept.before_spl_db,
        third_octave_dbfs=np.array(kept.third_octave_dbfs) if kept.third_octave_dbfs else None,
    )


def _noise(job: Job, *, seconds: float, level_dbfs: float) -> np.ndarray:
    rate = job.rig.sample_rate_hz
    return pink_noise(
        samples=round(seconds * rate), sample_rate_hz=rate, level_dbfs=level_dbfs, rng=np.random.default_rng(17)
    )


def _recorded(
    job: Job, stimulus: np.ndarray, progress: Progress, stopped: Stopped, *, calibrator_db: float | None = None
) -> np.ndarray:
    """What the microphone at the main seat's centre hears; in the rehearsal perhaps with a calibrator on it."""
    device = audio_of(job, spot_id=job.first_spot.id, round_name="noise", attempt=1)
    if calibrator_db is not None:
        device = device.with_calibrator(calibrator_db)
    recording, *_ = device.play_and_record(
        {job.speakers[0].output: stimulus}, progress=progress, stopped=stopped, sample_rate_hz=job.rig.sample_rate_hz
    )
    return recording
