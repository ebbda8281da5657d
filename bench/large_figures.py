"""Large and long: a folder with jobs of 3,000 takes is started, looked at, emptied and made small; eight hours of work.

`.venv/bin/python bench/large_figures.py [--short]`. Eight hours are those of a day's work, as fast as they compute: ten
rounds of 13 channels at 24 spots, hours of meter, and a page that asks twice a second all the while.
"""

import ctypes
import gc
import os
import statistics
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path

from full_job_figures import PAGES, filled, full
from promises import SHORT, ended, line, note

from dolce.core.signals import Source
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic
from dolce.services.wiring import Services, open_services
from dolce.web import create_app
from dolce.web.serving import settle

JOBS, ROUNDS = (2, 1) if SHORT else (3, 10)
RUNS = 1 if SHORT else 12
HOURS = 0.01 if SHORT else 8.0
RECORDING_BYTES = 20_000 if SHORT else 100_000  # a third of what five seconds take as FLAC
# What a day is made of: a take sounds six seconds, and the microphone is moved between.
TAKES_AN_HOUR, METER_AN_HOUR_S, LOOKS_AN_HOUR = 300, 900.0, 7200


def resident_mb() -> float:
    """What is held when all that can be given back is."""
    gc.collect()
    with suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def started(folder: Path) -> float:
    """Seconds from the command to the line that names the address."""
    # Whoever starts it is not told never to keep bytecode, as this bench may be.
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    begun = time.perf_counter()
    run = subprocess.Popen(
        [sys.executable, "-m", "dolce", "serve", "--port", "0", "--data", str(folder)],
        stdout=subprocess.PIPE,
        text=True,
        env=environment,
    )
    assert run.stdout.readline().startswith("Dolce is at")
    took = time.perf_counter() - begun
    run.terminate()
    run.communicate(timeout=30)
    assert run.returncode == 0
    return took


def pages(services: Services, job_id: int) -> None:
    """Every page, several times, as fragments: 95 % of all looks."""
    client, headers, times = create_app(services).test_client(), {"HX-Request": "true"}, []
    for page in PAGES:  # what the first look computes is found behind it by then
        client.get(f"/jobs/{job_id}/{page}", headers=headers)
    services.context.background.wait()
    for page in PAGES:
        for _ in range(RUNS):
            begun = time.perf_counter()
            answer = client.get(f"/jobs/{job_id}/{page}", headers=headers)
            times.append(1000 * (time.perf_counter() - begun))
            assert answer.status_code == 200, page
    worst = sorted(times)[int(0.95 * (len(times) - 1))]
    line(
        f"pages of a job of {ROUNDS * len(services.jobs.get(job_id).asked)} takes, 95 % of all",
        f"{worst:.0f} ms (median {statistics.median(times):.0f})",
        "100 ms",
        worst < 100,
    )


def emptied(services: Services, ids: list[int]) -> None:
    """All jobs but one deleted, and the space given back."""
    file = services.folder / "dolce.sqlite"
    services.context.database.compact(lambda _: None)
    before = file.stat().st_size
    for job_id in ids[1:]:
        services.jobs.delete(job_id)
    begun = time.perf_counter()
    services.space.begin()
    services.folder_work.wait()
    took = time.perf_counter() - begun
    assert not services.folder_work.present.fault, services.folder_work.present.fault
    after, wanted = file.stat().st_size, before / len(ids)
    line(
        f"{len(ids) - 1} of {len(ids)} jobs deleted, space given back in {took:.1f} s",
        f"{before / 1e6:.0f} to {after / 1e6:.0f} MB",
        f"{1.1 * wanted / 1e6:.0f} MB",
        after < 1.1 * wanted,
    )


def day(services: Services) -> None:
    """Hours of passes, meter and looks; memory after the first and after the last of ten parts."""
    job = services.jobs.create(JobDetails(name="Day"), plan=full() if SHORT else attic())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=5.0)
    client, headers, held = create_app(services).test_client(), {"HX-Request": "true"}, []
    parts = 1 if SHORT else 10
    takes = meter_s = looks = 0
    begun = time.perf_counter()
    for part in range(parts):
        until = HOURS * (part + 1) / parts
        while takes < TAKES_AN_HOUR * until:
            services.rounds.new(job.id)
            services.taking.run_rest(job.id)
            services.sound.wait()
            takes += services.taking.board(job.id).taken
        while meter_s < METER_AN_HOUR_S * until:
            services.live.start(job.id, "reference", channel="L", automatic=True)
            services.sound.wait()
            services.live.start(job.id, "moving", channel="L", source=Source(kind="pink", level_dbfs=-30.0))
            services.sound.wait()
            meter_s += 2 * 6.3 + 22.3
        while looks < LOOKS_AN_HOUR * until:
            client.get(f"/jobs/{job.id}/takes/progress?step=1&spot=1", headers=headers)
            if looks % 20 == 0:
                client.get(f"/jobs/{job.id}/{PAGES[looks // 20 % len(PAGES)]}", headers=headers)
            looks += 1
        services.context.background.wait()
        held.append(resident_mb())
        note(
            f"  after {until:.2g} h: {takes} takes, {meter_s / 60:.0f} min of meter, {looks} looks",
            f"{held[-1]:.0f} MB",
        )
    # The first two parts fill what caches keep, which has bounds.
    base = held[min(1, len(held) - 1)]
    grown = held[-1] / base - 1
    line(
        f"{HOURS:g} h in {time.perf_counter() - begun:.0f} s: memory after the last tenth against the second",
        f"{100 * grown:+.1f} %",
        "5 %",
        grown < 0.05 or SHORT,
    )


def main() -> int:
    """One folder for all of it."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        services = open_services(folder)
        settle()
        ids = []
        for number in range(JOBS):
            job = services.jobs.create(JobDetails(name=f"Barn {number + 1}"), plan=full())
            services.rigging.set_rig(job.id, pace="fast")
            filled(
                services,
                services.jobs.get(job.id),
                ROUNDS if number else max(2, ROUNDS),
                recording=os.urandom(RECORDING_BYTES),
            )
            ids.append(job.id)
        pages(services, ids[0])
        services.close()
        took = statistics.median(started(folder) for _ in range(1 if SHORT else 5))
        line(f"start of a folder with {JOBS} such jobs, to its address", f"{took:.2f} s", "2 s", took < 2 or SHORT)
        services = open_services(folder)
        emptied(services, ids)
        day(services)
        services.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
