"""Processors on the network of this machine: found, compared with the room, joined; and the stand-in for one."""

import contextlib
import subprocess
import sys
import time
from dataclasses import dataclass

from dolce.core.job import Job
from dolce.core.processor import REHEARSAL_PROCESSOR, ProcessorInUse, with_loaded
from dolce.devices.network.client import LOOKED_AT, NETWORK, Found, found_at, look_around
from dolce.errors import Conflict, DeviceError
from dolce.services.context import Context
from dolce.services.rig.processor_access import ProcessorAccess, require_free

_WAITED_FOR_S, _ASKED_EVERY_S = 3.0, 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkView:
    """What was found on the network, and what of the joined one does not go with the room.

    Attributes
    ----------
    found : processors that answered at the last look; None before the first
    mismatches : in words
    own_port : of a stand-in that was started from the page; None for none
    starting : whether that one has not answered yet
    """

    found: tuple[Found, ...] | None
    mismatches: tuple[str, ...]
    own_port: int | None
    starting: bool


class NetworkProcessors:
    """Processors on the network, for all jobs."""

    def __init__(self, context: Context, access: ProcessorAccess) -> None:
        self._context = context
        self._access = access
        self._found: tuple[Found, ...] | None = None
        self._own: tuple[subprocess.Popen, int] | None = None

    def view(self, job_id: int) -> NetworkView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
        address = job.rig.processor.address
        known = next((result for result in self._found or () if result.address == address), None)
        process, port = self._own or (None, None)
        running = process is not None and process.poll() is None
        own_port = port if running else None
        answers = any(result.address == f"127.0.0.1:{own_port}" for result in self._found or ())
        return NetworkView(
            found=self._found,
            mismatches=mismatches(job, known) if known else (),
            own_port=own_port,
            starting=running and not answers,
        )

    def look_around(self) -> None:
        """Ask at the usual ports."""
        self._found = tuple(look_around())

    def join(self, job_id: int, address: str) -> None:
        """Let a job load the processor at an address.

        Raises
        ------
        DeviceError
            Where none answers there.
        InvalidValue
            Where that is no address on this machine.
        """
        checked = ProcessorInUse(address=address).address
        found = found_at(checked)
        self._found = (*(result for result in self._found or () if result.address != checked), found)
        with self._context.change() as work:
            require_free(work, job_id)
            rig = work.jobs.get(job_id).rig
            chain = with_loaded(rig.chain, name=found.name, can=NETWORK, limits=found.limits, address=checked)
            work.jobs.set_rig(job_id, rig.changed(chain=chain))
            work.logbook.add(job_id, f"Processor {found.name} joined at {checked}.", at=self._context.now())
        self._access.read(job_id)

    def leave(self, job_id: int) -> None:
        """Go back to the usual processor of the rig; what the other one holds stays in it."""
        with self._context.change() as work:
            require_free(work, job_id)
            job = work.jobs.get(job_id)
            usual = REHEARSAL_PROCESSOR if job.rig.interface.simulated else job.rig.usual_processor
            chain = with_loaded(job.rig.chain, name=usual.name, can=usual.can, limits=usual.limits, address="")
            work.jobs.set_rig(job_id, job.rig.changed(chain=chain))
            work.logbook.add(job_id, f"Processor {job.rig.processor.name} left.", at=self._context.now())
        self._access.read(job_id)

    def start_stand_in(self) -> int:
        """Start a stand-in as a process of its own; its port. It is waited for a little: no page hangs on it.

        Raises
        ------
        Conflict
            Where one was started already.
        DeviceError
            Where it ended at once.
        """
        if self._own is not None and self._own[0].poll() is None:
            raise Conflict(f"it runs already, at port {self._own[1]}.", where="stand-in", remedy="Connect to it.")
        taken = {result.address for result in look_around()}
        port = next((port for port in LOOKED_AT if f"127.0.0.1:{port}" not in taken), LOOKED_AT[0])
        file = self._context.database.folder / "stand-in.json"
        process = subprocess.Popen(
            [sys.executable, "-m", "dolce", "processor", "--port", str(port), "--data", str(file)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            stdin=subprocess.DEVNULL,
        )
        self._own = process, port
        until = time.monotonic() + _WAITED_FOR_S
        while time.monotonic() < until and process.poll() is None:
            with contextlib.suppress(DeviceError):
                found = found_at(f"127.0.0.1:{port}")
                self._found = (*(result for result in self._found or () if result.address != found.address), found)
                return port
            time.sleep(_ASKED_EVERY_S)
        if process.poll() is None:
            return port
        self.close()
        raise DeviceError(
            "the stand-in did not start.", where=f"port {port}", remedy="Start it by hand: dolce processor."
        )

    def stop_stand_in(self) -> None:
        """End the one that was started from here; what it holds is kept."""
        self.close()
        self._found = tuple(look_around())

    def close(self) -> None:
        """End what was started."""
        if self._own is not None:
            process, self._own = self._own[0], None
            process.terminate()
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait(5)


def mismatches(job: Job, found: Found) -> tuple[str, ...]:
    """What of a processor does not go with the room's layout, in words."""
    absent = [channel for channel in job.channels if channel not in found.outputs]
    changes = []
    if absent:
        changes.append(f"it has no output for {', '.join(absent)}")
    limits = found.limits
    if not limits.bands and not limits.taps:
        changes.append("it has neither bands nor a convolution")
    if not limits.crossovers and any(speaker.is_sub for speaker in job.speakers):
        changes.append("it has no crossovers, so bass can't be sent to the subs")
    return tuple(changes)
