"""The interface heard through a cable: its response and latency, kept and taken out of every take."""

from dolce.core.job import PassRecord, PassResult
from dolce.core.response import interface_loop
from dolce.devices.interface import Progress, Stopped
from dolce.devices.opening import audio_of
from dolce.errors import Conflict
from dolce.services.context import Context
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.take_making import TAIL_S, deconvolver_of, stimulus_of, sweep_of
from dolce.store import UnitOfWork


class InterfaceLooping:
    """The loop of one job's interface."""

    def __init__(self, context: Context, sound: SoundWork) -> None:
        self._context = context
        self._sound = sound

    def measure(self, job_id: int) -> PassRecord:
        """Play a sweep on the loop's output and record the cable."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        sweep, output = sweep_of(job.rig), job.rig.interface.loop_output
        if job.rig.interface.loop_input is None or output is None:
            raise Conflict(
                "no loop is joined.",
                where="loop",
                remedy="Join an output to an input by a cable, and type both numbers.",
            )
        if job.rig.interface.own_clock:
            raise Conflict(
                "what records has a clock of its own: no cable tells its latency.",
                where="loop",
                remedy="Arrivals come from the sync chirp instead; no loop is needed.",
            )

        def step(_channel: str, _spot: int, progress: Progress, stopped: Stopped) -> Keep:
            device = audio_of(job, spot_id=job.first_spot.id, round_name="loop", attempt=1, with_loop=True)
            *_, cable = device.play_and_record(
                {output: stimulus_of(sweep)}, sample_rate_hz=sweep.sample_rate_hz, progress=progress, stopped=stopped
            )
            found = interface_loop(
                cable, deconvolver=deconvolver_of(sweep, cable.size), device=job.rig.interface.device_name
            )

            def keep(work: UnitOfWork, _found: PassResult) -> None:
                work.jobs.set_rig(job_id, work.jobs.get(job_id).rig.changed(loop=found))
                work.logbook.add(
                    job_id,
                    f"Interface measured through its loop: latency {found.latency_s * 1000:.2f} "
                    f"ms, gain {found.gain_db:+.1f} dB. Taken out from now on.",
                    at=self._context.now(),
                )

            return keep

        return self._sound.start(
            job_id, kind="loop", steps=[("loop", 1)], step=step, seconds_per_step=sweep.duration_s + TAIL_S
        )

    def forget(self, job_id: int) -> None:
        """Takes from now on hold the electronics again."""
        with self._context.change() as work:
            work.jobs.set_rig(job_id, work.jobs.get(job_id).rig.changed(loop=None))
            work.logbook.add(job_id, "The interface's loop is no longer taken out.", at=self._context.now())
