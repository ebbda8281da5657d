"""Backup and restore of a large job, against copying as many bytes on the same disk in the same run.

`.venv/bin/python bench/backup_figures.py [--short]`; short has 60 takes.
"""

import os
import resource
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line, note

from dolce.core.signals import excitation_values
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.takes.take_making import captured, stimulus_of, sweep_of
from dolce.services.wiring import Services, open_services

TAKES, PIECE = (60 if SHORT else 3000), 1 << 20


def filled(services: Services) -> int:
    """A job with many takes, each with a raw recording of noise: nothing that a disk could make smaller."""
    job = services.jobs.create(JobDetails(name="Large"))
    sweep = sweep_of(job.rig)
    capture, levels = captured(stimulus_of(sweep) * 0.3, sweep=sweep, microphone=None)
    rng = np.random.default_rng(4)
    spots = [spot.id for spot in job.spots]
    for first in range(0, TAKES, 30):
        with services.context.change() as work:
            for k in range(first, min(first + 30, TAKES)):
                work.takes.add(
                    round_id=job.round_id,
                    channel="LR"[k % 2],
                    spot_id=spots[k // 2 % len(spots)],
                    at=services.context.now(),
                    source="rig",
                    capture=replace(capture),
                    levels=levels,
                    arrival_known=True,
                    recording=rng.bytes(450_000),
                    recording_name="x.flac",
                    played=excitation_values(sweep),
                )
    return job.id


def copied_s(path: Path) -> float:
    """Reading and writing the same bytes, and having them on the disk."""
    begun = time.perf_counter()
    other = path.with_name("copy")
    with path.open("rb") as file, other.open("wb") as out:
        while piece := file.read(PIECE):
            out.write(piece)
        out.flush()
        os.fsync(out.fileno())
    took = time.perf_counter() - begun
    other.unlink()
    return took


def peak_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> int:
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder) / "data")
        job_id = filled(services)
        other = open_services(Path(folder) / "other")
        before = peak_mb()
        begun = time.perf_counter()
        services.backups.begin_backup([job_id])
        services.folder_work.wait()
        written = time.perf_counter() - begun
        path = services.backups.folder / services.backups.files()[0].name
        disk = copied_s(path)
        note(f"{TAKES} takes", f"{path.stat().st_size / 1e6:.0f} MB; copied in {disk:.2f} s")
        with path.open("rb") as file:
            name = other.backups.add(file, path.name)
        begun = time.perf_counter()
        other.backups.begin_restore(name)
        other.folder_work.wait()
        restored = time.perf_counter() - begun
        assert not other.folder_work.present.fault, other.folder_work.present.fault
        for what, took in (("backup", written), ("restore", restored)):
            line(
                f"{what} against a copy of as many bytes",
                f"{took:.2f} s, {took / disk:.1f} times",
                "2 times",
                took < 2 * disk,
            )
        grown = peak_mb() - before
        line("memory besides", f"{grown:.0f} MB", "300 MB", grown < 300)
        services.close()
        other.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
