"""The Rig stop: interface, levels, level check, and the faults of a rehearsal."""

from collections.abc import Callable, Iterable
from dataclasses import replace

import numpy as np

from dolce.core.checked import range_of
from dolce.core.job import Job, LevelResult, PassRecord, PassResult, Rig, result_as, result_of
from dolce.core.job.rig import Levels
from dolce.core.levels import LevelReading, level_reading
from dolce.core.rig import Fault, checked_faults, loudest_sweep_db
from dolce.core.signals import Sweep
from dolce.devices.interface import Progress, Stopped
from dolce.devices.opening import audio_of
from dolce.devices.sound_card import CardInfo, sound_cards
from dolce.errors import Conflict, DeviceError
from dolce.services.context import Context
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.take_making import require_open
from dolce.store import UnitOfWork

QUIET_S = 0.8
CHECK_SWEEP_S = 1.2


class Rigging:
    """Hardware settings of one job."""

    def __init__(self, context: Context, sound: SoundWork) -> None:
        self._context = context
        self._sound = sound

    def set_rig(self, job_id: int, **changes: object) -> Job:
        """Change settings of the rig by name."""
        with self._context.change() as work:
            before = work.jobs.get(job_id).rig
            rig = before.changed(**changes)
            if rig.levels.full_scale_spl_db is not None:
                # More gain: full scale is reached at less pressure. Another device knows nothing of this one's.
                same = rig.interface.device_name == before.interface.device_name
                gained = rig.levels.microphone_gain_db - before.levels.microphone_gain_db
                level = rig.levels.full_scale_spl_db - gained if same else None
                rig = rig.changed(full_scale_spl_db=level)
            work.jobs.set_rig(job_id, rig)
            work.jobs.touch(job_id, self._context.now())
            return work.jobs.get(job_id)

    def cards(self, *, again: bool = False) -> tuple[list[CardInfo], str]:
        """Audio devices of this computer, and why there are none; looked for anew only while nothing plays."""
        try:
            found = sound_cards(again=again and self._sound.running() is None)
        except DeviceError as error:
            return [], f"{error.problem} {error.remedy}"
        return found, "" if found else (
            "No audio device was found. Plug one in and look again, "
            "or use the rehearsal rig, or recordings made elsewhere on Takes."
        )

    def turn(self, job_id: int, knob: str, change_db: float) -> None:
        """Rehearsal: turn the gain at a speaker's back, or the volume control ("volume"); sound that plays follows."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            if knob != "volume":
                job.speaker(knob)
            turned = max(-40.0, min(20.0, round(job.rig.rehearsal.knobs_db.get(knob, 0.0) + change_db, 2)))
            work.jobs.set_rig(job_id, job.rig.changed(knobs_db={**job.rig.rehearsal.knobs_db, knob: turned}))

    def add_fault(self, job_id: int, fault: Fault) -> None:
        """One fault more; the same one twice is one."""
        self._change_faults(
            job_id, lambda present: present if any(_same(fault, f) for f in present) else (*present, fault)
        )

    def drop_fault(self, job_id: int, fault: Fault) -> None:
        """Take one away, if it is there."""
        self._change_faults(job_id, lambda present: (f for f in present if not _same(fault, f)))

    def set_faults(self, job_id: int, faults: Iterable[Fault]) -> None:
        """Give the rehearsal rig these faults to find and no others."""
        self._change_faults(job_id, lambda _: faults)

    def _change_faults(self, job_id: int, change: Callable[[tuple[Fault, ...]], Iterable[Fault]]) -> None:
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            known = checked_faults(change(job.rig.rehearsal.faults), {s.channel: s.output for s in job.speakers})
            work.jobs.set_rig(job_id, job.rig.changed(faults=known))
            work.jobs.touch(job_id, self._context.now())

    def check_level(self, job_id: int) -> PassRecord:
        """Listen to the room, then play a short sweep on each channel, at the main seat's centre."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)

        def step(channel: str, at: int, progress: Progress, stopped: Stopped) -> Keep:
            reading = self._heard(job, channel, at, progress, stopped)

            def keep(_work: UnitOfWork, present: PassResult) -> LevelResult:
                found = result_as(LevelResult, present)
                return replace(found, readings={**found.readings, channel: reading})

            return keep

        spot = job.first_spot.id
        require_open(job, job.channels)
        return self._sound.start(
            job_id,
            kind="level",
            steps=[(channel, spot) for channel in job.channels],
            seconds_per_step=QUIET_S + CHECK_SWEEP_S,
            step=step,
            result=LevelResult(rests_on=job.rig.level_rests_on),
        )

    def turn_down_and_check(self, job_id: int) -> PassRecord:
        """The sweep down by as much as keeps every channel clear of clipping, then the level check once more.

        Raises
        ------
        Conflict
            Where that is softer than sweeps may be: then it is the microphone's gain that has to come down.
        """
        most_db = max((reading.over_margin_db for reading in self.level_readings(job_id).values()), default=0.0)
        with self._context.look() as work:
            level = work.jobs.get(job_id).rig.levels.sweep_level_dbfs - most_db
        if level < range_of(Levels, "sweep_level_dbfs").low:
            raise Conflict(
                "the sweep is as soft as it may be.",
                where="level",
                remedy="Turn the microphone's gain down, then check.",
            )
        self.set_rig(job_id, sweep_level_dbfs=level)
        return self.check_level(job_id)

    @staticmethod
    def _heard(job: Job, channel: str, spot: int, progress: Progress, stopped: Stopped) -> LevelReading:
        rate = job.rig.sample_rate_hz
        # The sweep of the takes, shortened: its level at each frequency is the same, and so are its peaks.
        sweep = Sweep(
            start_hz=20,
            stop_hz=0.45 * rate,
            duration_s=CHECK_SWEEP_S,
            sample_rate_hz=rate,
            level_dbfs=job.rig.levels.sweep_level_dbfs,
        )
        quiet = round(QUIET_S * rate)
        device = audio_of(job, spot_id=spot, round_name="level check", attempt=1)
        recording, *_ = device.play_and_record(
            {job.speaker(channel).output: np.concatenate([np.zeros(quiet), sweep.samples()])},
            sample_rate_hz=rate,
            progress=progress,
            stopped=stopped,
        )
        return level_reading(recording, quiet_samples=quiet)

    def level_readings(self, job_id: int) -> dict[str, LevelReading]:
        """Readings of the last level check by channel, held against what suits the room; empty before the first."""
        with self._context.look() as work:
            job, last = work.jobs.get(job_id), work.passes.latest(job_id, "level")
        full_scale = job.rig.levels.full_scale_spl_db
        over = None if full_scale is None else full_scale - loudest_sweep_db(job.room.volume_m3)
        return (
            {}
            if last is None
            else {
                channel: reading if over is None else replace(reading, over_db=reading.signal_dbfs + over)
                for channel, reading in result_of(LevelResult, last).readings.items()
            }
        )

    def level_moved_on(self, job_id: int) -> tuple[str, ...]:
        """What the last level check rests on that has been changed since, by name."""
        with self._context.look() as work:
            return moved_on(work.jobs.get(job_id).rig, work.passes.latest(job_id, "level"))


def moved_on(rig: Rig, check: PassRecord | None) -> tuple[str, ...]:
    """What has been changed in a rig since a level check, by name; nothing where there was no check."""
    held = result_of(LevelResult, check).rests_on
    now = rig.level_rests_on
    return tuple(name for name, value in held.items() if now.get(name) != value)


def _same(first: Fault, other: Fault) -> bool:
    """Whether two faults are one, wherever their cables hung when they were made."""
    return (first.kind, first.channels) == (other.kind, other.channels)
