"""Stops and pages while filters are searched, a backup is written and a pass sounds, in a server of its own process.

`.venv/bin/python bench/break_load.py [--short] [number of stops]`. Asked over HTTP as a browser asks, from another
process than the server's: what is told is the time from the press to the answer, which comes when nothing sounds.
"""

import http.client
import random
import re
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line, note

from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.errors import DolceError
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.shape.fitting_process import FittingProcess
from dolce.services.wiring import Services, open_services
from dolce.web import serving

STOPS = 4 if SHORT else next((int(word) for word in sys.argv[1:] if word.isdigit()), 1000)
LATEST_S, PAGE_S = 0.1, 0.2
SHAPED, SOUNDING = 1, 2  # numbers of the two jobs
STAGES = ("room", "rig", "takes", "read", "align", "shape", "load", "prove")
PAGES = ["/", *(f"/jobs/{SHAPED}/{stop}" for stop in STAGES), f"/jobs/{SOUNDING}/takes"]


def prepared(folder: Path) -> None:
    """One job to look for filters in, and one that sounds in real time."""
    services = open_services(folder)
    size = RoomSize(length_m=5.6, width_m=4.3, height_m=2.6)
    plan = new_plan(size, layout="2.0", spots=2) if SHORT else new_plan(size, layout="5.1", subs=2, spots=4)
    services.jobs.create(JobDetails(name="Shaped"), plan=plan)
    services.rigging.set_rig(SHAPED, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(SHAPED)
    services.sound.wait()
    services.aligning.use_proposal(SHAPED)
    services.jobs.create(JobDetails(name="Stops"))
    services.rigging.set_rig(SOUNDING, pace="real time", sweep_seconds=1.0)
    services.close()


def served(folder: Path) -> None:
    """The server's process: it searches and writes backups without end."""
    services = open_services(folder, compute=FittingProcess())
    server = serving.new_server(services, port=0, ready=True)
    for work in (searches, backups):
        threading.Thread(target=work, args=(services,), daemon=True).start()
    print(server.effective_port, flush=True)
    server.run()


def searches(services: Services) -> None:
    """Each at another level of the target, since the same one is found at once."""
    for level_db in np.random.default_rng(1).uniform(-6, 0, 100_000).round(1):
        services.targets.use_level(SHAPED, float(level_db))
        services.finding.begin_find(SHAPED)
        services.finding.searches.wait(SHAPED)


def backups(services: Services) -> None:
    """Written, and taken away again."""
    while True:
        try:
            services.backups.begin_backup([SHAPED])
            services.folder_work.wait()
            for file in services.backups.files():
                services.backups.delete(file.name)
        except DolceError as error:
            print(f"backup: {error}", file=sys.stderr, flush=True)
            return


class Browser:
    """One connection that is kept open."""

    def __init__(self, port: int) -> None:
        self.link = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
        self.cookie = self.token = ""
        page = self.ask("GET", "/")[1].decode()
        self.token = re.search(r'name="csrf_token" value="([^"]+)"', page)[1]

    def ask(self, method: str, path: str, **form: str) -> tuple[float, bytes]:
        """How long it took, and what came."""
        headers = {"Cookie": self.cookie, "Content-Type": "application/x-www-form-urlencoded", "HX-Request": "true"}
        begun = time.perf_counter()
        self.link.request(method, path, urllib.parse.urlencode({"csrf_token": self.token, **form}), headers)
        answer = self.link.getresponse()
        data = answer.read()
        took = time.perf_counter() - begun
        if given := answer.getheader("Set-Cookie"):
            self.cookie = given.split(";")[0]
        return took, data


def looked_at(port: int, over: threading.Event, took: list[float]) -> None:
    """A person who goes from page to page."""
    browser, rng = Browser(port), random.Random(1)
    while not over.wait(0.2):
        took.append(browser.ask("GET", rng.choice(PAGES))[0])


class Machine:
    """Whether this machine lets anybody run: a thread that sleeps for 5 ms, and notes how much longer it took.

    A stop that is late while this process, which does nothing then, was not woken either, tells of the machine.
    """

    def __init__(self) -> None:
        self.held_up: list[tuple[float, float]] = []
        threading.Thread(target=self._watch, daemon=True).start()

    def _watch(self) -> None:
        while True:
            begun = time.perf_counter()
            time.sleep(0.005)
            if (late := time.perf_counter() - begun - 0.005) > 0.02:
                self.held_up.append((begun, late))

    def longest_s(self, begun: float, ended: float) -> float:
        """How long this process was kept from running between two moments, at the longest."""
        return max((late for at, late in self.held_up if begun - late < at < ended), default=0.0)


def main() -> int:
    """Print all figures."""
    with tempfile.TemporaryDirectory() as folder:
        prepared(Path(folder))
        server = subprocess.Popen(
            [sys.executable, __file__, "--serve", folder, *(["--short"] if SHORT else [])],
            stdout=subprocess.PIPE,
            text=True,
        )
        try:
            port = int(server.stdout.readline())
            runner, stopper = Browser(port), Browser(port)
            over, pages, stops, rng = threading.Event(), [], [], random.Random(3)
            machine, held_up = Machine(), []
            person = threading.Thread(target=looked_at, args=(port, over, pages))
            person.start()
            for _ in range(STOPS):
                runner.ask("POST", f"/jobs/{SOUNDING}/takes/L/1/repeat")
                time.sleep(rng.uniform(0, 2.2))
                begun = time.perf_counter()
                stops.append(stopper.ask("POST", "/sound/stop")[0])
                held_up.append(machine.longest_s(begun, time.perf_counter()))
            over.set()
            person.join()
        finally:
            server.kill()
            server.wait()
    late = sum(took > LATEST_S for took in stops)
    line(
        f"{STOPS} stops while filters are searched and a backup is written: later than 100 ms",
        f"{late}, latest {1000 * max(stops):.0f} ms",
        "0",
        late == 0,
    )
    for took, machine_s in zip(stops, held_up, strict=True):
        if took > LATEST_S:
            note(f"  {1000 * took:.0f} ms", f"of which this idle process was not woken for {1000 * machine_s:.0f} ms")
    note("  in the median", f"{1000 * float(np.median(stops)):.0f} ms")
    slow = float(np.percentile(pages, 95)) if pages else 0.0
    line(
        f"  {len(pages)} pages meanwhile: 95 of 100 are there within", f"{1000 * slow:.0f} ms", "200 ms", slow < PAGE_S
    )
    return ended()


if __name__ == "__main__":
    if "--serve" in sys.argv:
        served(Path(sys.argv[sys.argv.index("--serve") + 1]))
    raise SystemExit(main())
