"""Microphones: kept for all jobs, used in a job on their inputs, pointed one way, compared with each other."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from dolce.core.job import Job, PassRecord, PassResult, Rig
from dolce.core.rig import (
    ANGLES,
    POINTINGS,
    Microphone,
    MicrophoneFinding,
    MicrophoneInUse,
    differences,
    microphone_findings,
)
from dolce.devices.interface import Progress, Stopped
from dolce.devices.opening import audio_of
from dolce.devices.rehearsal import MICROPHONE_CURVE, SIDE_ON_CURVE
from dolce.errors import Conflict, InvalidValue
from dolce.formats.microphone_text import read_microphone_curve, write_microphone_curve
from dolce.services.context import Context
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.take_making import TAIL_S, captured, stimulus_of, sweep_of
from dolce.store import UnitOfWork

MOST = 8


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MicrophonesView:
    """The shelf, what of it the job uses, and what does not fit."""

    job: Job
    shelf: tuple[Microphone, ...]
    deleted: tuple[Microphone, ...]
    findings: tuple[MicrophoneFinding, ...]
    last_pass: PassRecord | None

    def is_used(self, microphone: Microphone) -> bool:
        return any(used.microphone.id == microphone.id for used in self.job.rig.microphones)


class MicrophoneKeeping:
    """The shelf of microphones, and those of one job."""

    def __init__(self, context: Context, sound: SoundWork) -> None:
        self._context = context
        self._sound = sound

    def view(self, job_id: int) -> MicrophonesView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            return MicrophonesView(
                job=job,
                shelf=tuple(work.microphones.all()),
                deleted=tuple(work.microphones.deleted()),
                findings=tuple(microphone_findings(job.rig.microphones, job.rig.pointing)),
                last_pass=work.passes.latest(job_id, "compare"),
            )

    def shelf(self) -> tuple[Microphone, ...]:
        """Those that are kept for all jobs."""
        with self._context.look() as work:
            return tuple(work.microphones.all())

    def get(self, number: int) -> Microphone:
        """The microphone of the shelf under a number, or NotFound."""
        with self._context.look() as work:
            return work.microphones.get(number)

    def add(self, *, name: str, serial: str = "", sensitivity_mv_pa: float | None = None) -> Microphone:
        """Put a microphone on the shelf."""
        with self._context.change() as work:
            return work.microphones.add(Microphone(name=name, serial=serial, sensitivity_mv_pa=sensitivity_mv_pa))

    def edit(self, number: int, *, name: str, serial: str, sensitivity_mv_pa: float | None) -> None:
        """Change what is known of a microphone, also in the jobs that use it."""
        self._change(number, lambda m: replace(m, name=name, serial=serial, sensitivity_mv_pa=sensitivity_mv_pa))

    def delete(self, number: int) -> None:
        """Take it off the shelf; jobs that use it keep what they know of it."""
        with self._context.change() as work:
            work.microphones.delete(number, self._context.now())

    def restore(self, number: int) -> None:
        with self._context.change() as work:
            work.microphones.restore(number)

    def read_curve(self, number: int | None, angle: int, data: bytes, *, file_name: str) -> None:
        """Read a calibration file for 0 or 90 degrees; FormatError naming the line."""
        if angle not in ANGLES:
            raise InvalidValue(f"{angle} degrees.", where="angle", remedy="Choose 0 or 90.")
        curve = read_microphone_curve(data, name=file_name)
        self._change(
            number,
            lambda m: replace(m, curves={**m.curves, angle: curve}, curve_files={**m.curve_files, angle: file_name}),
        )

    def drop_curve(self, number: int, angle: int) -> None:
        self._change(
            number,
            lambda m: replace(
                m,
                curves={a: c for a, c in m.curves.items() if a != angle},
                curve_files={a: f for a, f in m.curve_files.items() if a != angle},
            ),
        )

    def use(self, job_id: int, number: int | None) -> None:
        """Use a microphone of the shelf in a job, on the lowest free input."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            microphone = work.microphones.get(number)
            if any(microphone.microphone.id == number for microphone in rig.microphones):
                raise Conflict(f"{microphone.name} is in use already.", where="microphones")
            if len(rig.microphones) >= MOST:
                raise Conflict(f"{MOST} microphones are the most.", where="microphones", remedy="Take one out first.")
            taken = {*(microphone.input for microphone in rig.microphones), rig.interface.loop_input}
            free = next(k for k in range(1, 64) if k not in taken)
            self._set(
                work,
                job_id,
                replace(rig, microphones=(*rig.microphones, MicrophoneInUse(microphone=microphone, input=free))),
            )
            work.logbook.add(job_id, f"Microphone {microphone.name} in use on input {free}.", at=self._context.now())

    def drop(self, job_id: int, number: int) -> None:
        """No longer use it in a job. If it led, the comparison with the others is void."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            remaining = tuple(microphone for microphone in rig.microphones if microphone.microphone.id != number)
            if remaining and remaining[0] is not rig.microphones[0]:
                remaining = tuple(replace(microphone, difference=None) for microphone in remaining)
            self._set(work, job_id, replace(rig, microphones=remaining))

    def set_input(self, job_id: int, number: int, input_number: int) -> None:
        """Say which input a microphone hangs on."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            used = tuple(
                replace(microphone, input=input_number) if microphone.microphone.id == number else microphone
                for microphone in rig.microphones
            )
            self._set(work, job_id, replace(rig, microphones=used))

    def point(self, job_id: int, pointing: str) -> None:
        """Say where the microphones of a job point; the curve that fits is taken out from now on."""
        with self._context.change() as work:
            rig = work.jobs.get(job_id).rig
            self._set(work, job_id, replace(rig, pointing=pointing))
            words, angle = POINTINGS[pointing]
            work.logbook.add(
                job_id, f"Microphones point {words}: the curve for {angle} degrees applies.", at=self._context.now()
            )

    def rehearsal_curve(self, angle: int = 0) -> bytes:
        """The calibration file that comes with the simulated microphone, for 0 or 90 degrees."""
        curve = SIDE_ON_CURVE if angle == 90 else MICROPHONE_CURVE
        return write_microphone_curve(curve, title=f"Rehearsal microphone, {angle} degrees")

    def compare(self, job_id: int) -> PassRecord:
        """All microphones together at spot 1, one sweep on the first channel: their differences are kept."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        if len(job.rig.microphones) < 2:
            raise Conflict("there is only one microphone.", where="microphones", remedy="Use another one first.")
        spot = job.first_spot.id
        channel = next(iter(job.main_channels), job.channels[0])

        def step(_channel: str, _spot: int, progress: Progress, stopped: Stopped) -> Keep:
            found = _compared(job, channel, progress, stopped)

            def keep(work: UnitOfWork, _found: PassResult) -> None:
                rig = work.jobs.get(job_id).rig
                work.jobs.set_rig(
                    job_id,
                    replace(
                        rig,
                        microphones=tuple(
                            replace(microphone, difference=difference)
                            for microphone, difference in zip(rig.microphones, found, strict=True)
                        ),
                    ),
                )
                work.logbook.add(
                    job_id, f"{len(found)} microphones compared at {job.at_spot(spot)}.", at=self._context.now()
                )

            return keep

        return self._sound.start(
            job_id, kind="compare", steps=[(channel, spot)], step=step, seconds_per_step=job.rig.sweep_seconds + TAIL_S
        )

    def _change(self, number: int | None, change: Callable[[Microphone], Microphone]) -> None:
        """Change a microphone on the shelf, and where jobs use it; differences between microphones stay."""
        with self._context.change() as work:
            changed = change(work.microphones.get(number))
            work.microphones.change(changed)
            for job in work.jobs.all():
                if any(microphone.microphone.id == number for microphone in job.rig.microphones):
                    work.jobs.set_rig(
                        job.id,
                        replace(
                            job.rig,
                            microphones=tuple(
                                replace(microphone, microphone=changed)
                                if microphone.microphone.id == number
                                else microphone
                                for microphone in job.rig.microphones
                            ),
                        ),
                    )

    def _set(self, work: UnitOfWork, job_id: int, rig: Rig) -> None:
        before = work.jobs.get(job_id).rig
        if _leading(rig) != _leading(before):
            rig = rig.changed(full_scale_spl_db=None)  # another microphone: what was known is void
        work.jobs.set_rig(job_id, rig)
        work.jobs.touch(job_id, self._context.now())


def _leading(rig: Rig) -> tuple[int | None, int]:
    """Number and input of the leading microphone."""
    first = rig.microphones[0] if rig.microphones else None
    return (first.microphone.id if first else None), rig.inputs[0]


def _compared(job: Job, channel: str, progress: Progress, stopped: Stopped) -> list:
    sweep = sweep_of(job.rig)
    device = audio_of(job, spot_id=job.first_spot.id, round_name="comparison", attempt=1, together=True)
    recordings = device.play_and_record(
        {job.speaker(channel).output: stimulus_of(sweep)},
        sample_rate_hz=sweep.sample_rate_hz,
        progress=progress,
        stopped=stopped,
    )
    new_recordings = []
    for row, microphone in zip(recordings, job.rig.microphones, strict=True):
        curve, _ = microphone.curve(job.rig.pointing)
        _, levels = captured(row, sweep=sweep, microphone=curve, gain_db=job.rig.levels.microphone_gain_db)
        new_recordings.append(levels.level_db)
    return differences(np.array(new_recordings))
