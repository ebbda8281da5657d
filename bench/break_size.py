"""Large and many: memory of uploads, half-open connections, a copy of 2,808 takes, and what a safe disk costs a take.

`.venv/bin/python bench/break_size.py [--short]`.
"""

import contextlib
import io
import os
import socket
import statistics
import tempfile
import threading
import time
import urllib.request
from pathlib import Path

import numpy as np
import soundfile
from promises import SHORT, ended, line, note
from sqlalchemy import event

from dolce.core.signals import excitation_values
from dolce.errors import DolceError
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.takes.take_making import captured, stimulus_of, sweep_of
from dolce.services.wiring import Services, open_services
from dolce.web.serving import new_server

TAKES = 26 if SHORT else 2808
CONNECTIONS = 20 if SHORT else 400


def resident_mb() -> float:
    """Memory that this process holds now."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 2**20


class Highest:
    """The most memory that is held while something is done, looked at every few ms."""

    def __enter__(self) -> "Highest":
        self.before, self.mb, self._over = resident_mb(), 0.0, threading.Event()
        self._watch = threading.Thread(target=self._look)
        self._watch.start()
        return self

    def _look(self) -> None:
        while not self._over.wait(0.005):
            self.mb = max(self.mb, resident_mb() - self.before)

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._watch.join()


def flac(seconds: float, channels: int) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, np.zeros((round(seconds * 48_000), channels), dtype="int16"), 48_000, format="FLAC")
    return out.getvalue()


def uploads(services: Services, job_id: int) -> None:
    """A small file that unpacks to much, and twenty recordings of all lengths."""
    data = flac(179, 8)
    with Highest() as highest, contextlib.suppress(DolceError):
        services.recordings.add(job_id, "L", 1, data, file_name="long.flac")
    line(
        f"FLAC of {len(data) // 1000} kB, 8 channels, 179 s: memory until refused",
        f"{highest.mb:.0f} MB",
        "50 MB",
        highest.mb < 50,
    )
    rig = services.jobs.get(job_id).rig
    sweep = stimulus_of(sweep_of(rig)) * 0.3
    before = 0.0
    for number in range(4 if SHORT else 21):
        if number == 1:  # the first one loads what all of them need
            before = resident_mb()
        out = io.BytesIO()
        soundfile.write(
            out,
            np.concatenate([sweep, np.zeros(48_000 * number + 100 * number)]),
            48_000,
            format="WAV",
            subtype="PCM_24",
        )
        services.recordings.add(job_id, "L", 1, out.getvalue(), file_name=f"{number}.wav")
    left = resident_mb() - before
    line("20 recordings of different lengths: memory left behind", f"{left:.0f} MB", "150 MB", left < 150)


def connections(services: Services) -> None:
    """Half-open connections, and a page asked for meanwhile."""
    server = new_server(services, port=0)
    threading.Thread(target=server.run, daemon=True).start()
    opened = []
    try:
        for _ in range(CONNECTIONS):
            connection = socket.create_connection(("127.0.0.1", int(server.effective_port)))
            connection.sendall(b"POST /sound/stop HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 10\r\n\r\n")
            opened.append(connection)
        begun = time.perf_counter()
        with urllib.request.urlopen(f"http://127.0.0.1:{server.effective_port}/", timeout=20) as page:
            answered = page.status == 200
        seconds = time.perf_counter() - begun
        line(
            f"{CONNECTIONS} half-open connections: a page is answered",
            f"{1000 * seconds:.0f} ms",
            "1000 ms",
            answered and seconds < 1,
        )
    finally:
        for connection in opened:
            connection.close()
        server.close()


def filled(services: Services, job_id: int) -> None:
    """A job with many takes, put into the store as passes put them."""
    job = services.jobs.get(job_id)
    sweep = sweep_of(job.rig)
    capture, levels = captured(stimulus_of(sweep) * 0.3, sweep=sweep, microphone=None)
    raw = np.random.default_rng(1).bytes(500_000)  # a take of 6 s as FLAC is about as large
    channels, spots = 13, 24
    for first in range(0, TAKES, channels * spots):
        with services.context.change() as work:
            made = work.takes.add_round(job_id, name=f"Round {first}", at=services.context.now())
            for k in range(min(channels * spots, TAKES - first)):
                work.takes.add(
                    round_id=made.id,
                    channel=f"C{k % channels}",
                    spot_id=k // channels + 1,
                    source="rig",
                    at=services.context.now(),
                    capture=capture,
                    levels=levels,
                    arrival_known=True,
                    recording=raw,
                    recording_name="x.flac",
                    played=excitation_values(sweep),
                )


def copying(services: Services, job_id: int, other: int) -> None:
    """A copy of it all, while notes are saved in another job."""
    size = (services.context.database.folder / "dolce.sqlite").stat().st_size
    waited: list[float] = []
    over = threading.Event()

    def notes() -> None:
        while not over.is_set():
            begun = time.perf_counter()
            services.jobs.edit(other, JobDetails(name="Other", notes=str(begun)))
            waited.append(time.perf_counter() - begun)

    writer = threading.Thread(target=notes)
    writer.start()
    begun = time.perf_counter()
    services.jobs.copy(job_id)
    seconds = time.perf_counter() - begun
    over.set()
    writer.join()
    services.context.database.engine.dispose()
    grown = (services.context.database.folder / "dolce.sqlite").stat().st_size - size
    line(f"copy of {TAKES} takes", f"{seconds:.2f} s, {grown / 2**20:.0f} MB more", "2 s", seconds < 2)
    line("  a note saved meanwhile waits at most", f"{max(waited):.2f} s", "2 s", max(waited) < 2)


def keeping(services: Services, job_id: int) -> None:
    """What it costs that a take is on the disk when it is kept: with and without, in turn."""
    job = services.jobs.get(job_id)
    sweep = sweep_of(job.rig)
    capture, levels = captured(stimulus_of(sweep) * 0.3, sweep=sweep, microphone=None)
    raw = np.random.default_rng(1).bytes(500_000)
    engine = services.context.database.engine
    cost: dict[str, list[float]] = {"FULL": [], "NORMAL": []}
    for _ in range(5 if SHORT else 40):
        for kind, times in cost.items():

            def how(connection, _record, _proxy, kind=kind) -> None:
                connection.execute(f"PRAGMA synchronous = {kind}")

            event.listen(engine, "checkout", how)
            begun = time.perf_counter()
            with services.context.change() as work:
                work.takes.add(
                    round_id=job.round_id,
                    channel="L",
                    spot_id=1,
                    source="rig",
                    capture=capture,
                    at=services.context.now(),
                    levels=levels,
                    arrival_known=True,
                    recording=raw,
                    recording_name="x.flac",
                    played=excitation_values(sweep),
                )
            times.append(time.perf_counter() - begun)
            event.remove(engine, "checkout", how)
    full, normal = (1000 * statistics.median(cost[kind]) for kind in ("FULL", "NORMAL"))
    note("keeping a take: on the disk at once, or when SQLite likes", f"{full:.1f} ms, {normal:.1f} ms")


def main() -> int:
    """All sizes on one folder."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job = services.jobs.create(JobDetails(name="Large"))
        other = services.jobs.create(JobDetails(name="Other"))
        uploads(services, job.id)
        connections(services)
        filled(services, job.id)
        copying(services, job.id, other.id)
        keeping(services, job.id)
        services.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
