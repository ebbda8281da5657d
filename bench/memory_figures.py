"""What the server holds while ten full jobs are used as a person uses them, by kind of page, and after a rest.

`.venv/bin/python bench/memory_figures.py [--short] [--folder FOLDER] [--jobs COUNT]`: FOLDER is kept, so that it is
prepared only once.
Resident memory of the server's process, its children included, in MB; asked over HTTP from another process.
"""

import random
import re
import subprocess
import sys
import tempfile
import threading
import time
from html import unescape
from pathlib import Path

from break_load import Browser
from promises import SHORT, ended, line, note

from dolce.core.room import RoomPlan
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic, barn
from dolce.services.wiring import open_services

JOBS, ROUNDS = (1, 1) if SHORT else (10, 3)
LINKS = 1 if SHORT else 5  # of each page, that are followed
REST_S = 0.0 if SHORT else 60.0
USED_MB, PEAK_MB, RESTED_MB = 350, 600, 250
STOPS = ("room", "rig", "takes", "read", "align", "shape", "load", "prove", "report")
VIEWS = (
    "level",
    "seats",
    "phase",
    "delay",
    "impulse",
    "step",
    "energy",
    "slices",
    "map",
    "times",
    "distortion",
    "noise",
)
_NO_PAGE = re.compile(r"\.(zip|csv|txt|json|svg|wav|flac|sofa|html)\b|/(recording|spot-sheet)\b")


def prepared(folder: Path) -> None:
    """A full job with all its rounds, aligned, corrected and loaded; and copies of it."""
    plan: RoomPlan = attic() if SHORT else barn()
    services = open_services(folder)
    job = services.jobs.create(JobDetails(name="Full"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    for number in range(ROUNDS):
        if number:
            services.rounds.new(job.id)
        services.taking.run_rest(job.id)
        services.sound.wait()
        if not number:
            services.aligning.use_proposal(job.id)
            services.finding.find(job.id)
            services.loading.load(job.id, "A", "corrected")
            services.loading.switch(job.id, "A")
    for _ in range(JOBS - 1):
        services.jobs.copy(job.id)
    services.close()


class Held:
    """Resident memory of a process and its children: now, and at its highest, looked at all the time."""

    def __init__(self, pid: int) -> None:
        self._pid, self._ends = pid, threading.Event()
        self.highest = 0.0
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._thread.start()

    def now(self) -> float:
        """MB."""
        children = Path(f"/proc/{self._pid}/task/{self._pid}/children").read_text().split()
        return sum(map(self._of, (self._pid, *children)))

    @staticmethod
    def _of(pid: int | str) -> float:
        try:
            found = re.search(r"VmRSS:\s+(\d+)", Path(f"/proc/{pid}/status").read_text())
        except OSError:
            return 0.0
        return int(found[1]) / 1024 if found else 0.0

    def _watch(self) -> None:
        while not self._ends.wait(0.05):
            self.highest = max(self.highest, self.now())

    def close(self) -> None:
        """Look no more."""
        self._ends.set()
        self._thread.join()


def links(page: bytes, job: int) -> list[str]:
    """Pages of the same job that a page leads to."""
    found = {unescape(item) for item in re.findall(rf'(?:href|hx-get)="(/jobs/{job}/[^"#]*)"', page.decode())}
    return sorted(item for item in found if not _NO_PAGE.search(item))


def used(browser: Browser, job: int, held: Held, rng: random.Random, grown: dict[str, float]) -> None:
    """One job, stop by stop: each page, some of what it leads to, and what is handed out there."""
    for stop in STOPS:
        before = held.now()
        page = browser.ask("GET", f"/jobs/{job}/{stop}")[1]
        there = links(page, job)
        for path in rng.sample(there, min(LINKS, len(there))):
            browser.ask("GET", path)
        if stop == "read":
            for view in VIEWS:
                browser.ask("GET", f"/jobs/{job}/read?view={view}")
                browser.ask("GET", f"/jobs/{job}/read?view={view}&over=average")
        if stop == "load":
            browser.ask("GET", f"/jobs/{job}/load/package.zip")
            browser.ask("GET", f"/jobs/{job}/load?sheet=listen")
            browser.ask("POST", f"/jobs/{job}/load/listen/render", material="pink", compare="bypass")
        if stop == "report":
            browser.ask("GET", f"/jobs/{job}/report/report.html")
        grown[stop] = grown.get(stop, 0.0) + held.now() - before


def main() -> int:
    """Print all figures."""
    kept = sys.argv[sys.argv.index("--folder") + 1] if "--folder" in sys.argv else ""
    with tempfile.TemporaryDirectory() as made:
        folder = Path(kept or made)
        if not (folder / "dolce.sqlite").exists():
            prepared(folder)
        server = subprocess.Popen(
            [sys.executable, "-m", "dolce", "serve", "--port", "0", "--data", str(folder)],
            stdout=subprocess.PIPE,
            text=True,
        )
        try:
            port = int(re.search(r":(\d+)", server.stdout.readline())[1])
            held, browser, rng = Held(server.pid), Browser(port), random.Random(4)
            time.sleep(3)
            note("just started", f"{held.now():.0f} MB")
            grown: dict[str, float] = {}
            jobs = int(sys.argv[sys.argv.index("--jobs") + 1]) if "--jobs" in sys.argv else JOBS
            for job in range(1, jobs + 1):
                used(browser, job, held, rng, grown)
                note(f"after {job} of {JOBS} jobs", f"{held.now():.0f} MB, highest so far {held.highest:.0f}")
            for stop, more in grown.items():
                note(f"  by {stop}", f"{more:+.0f} MB")
            in_use, highest = held.now(), held.highest
            line(
                f"in use, after all pages of {jobs} jobs",
                f"{in_use:.0f} MB",
                f"{USED_MB} MB",
                in_use < USED_MB or SHORT,
            )
            line("  at its highest", f"{highest:.0f} MB", f"{PEAK_MB} MB", highest < PEAK_MB or SHORT)
            time.sleep(REST_S)
            rested = held.now()
            line("  after a minute of rest", f"{rested:.0f} MB", f"{RESTED_MB} MB", rested < RESTED_MB or SHORT)
            held.close()
        finally:
            server.terminate()
            server.wait(30)
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
