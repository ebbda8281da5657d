"""A processor on the network that drips, answers nothing or answers oddly: does any page or Stop wait for it?

`.venv/bin/python bench/break_processor.py [--short]`. A job is joined to a good one, whose place a bad one then takes;
pages and presses of ten such jobs are asked side by side.
"""

import socket
import statistics
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

from promises import SHORT, ended, line, note

from dolce.core.processor import ProcessorInUse
from dolce.devices.network.client import NETWORK
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import Services, open_services
from dolce.web import create_app

JOBS, ROUNDS = (2, 1) if SHORT else (10, 3)
DRIP_S, PAGE_S, STOP_S = 0.3, 1.5, 0.1
_HEAD = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: "
ODD = (
    b"[" * 50_000,
    b"[]",
    b"7",
    b"null",
    b"NaN",
    b'{"name": "\\ud800"}',
    b'{"outputs": {"L": []}}',
    b"\xff\xfe",
    b'{"state": ' + b"9" * 5000 + b"}",
)


def bad(kind: str) -> int:
    """A listener that behaves as its name says; its port."""
    door = socket.create_server(("127.0.0.1", 0))

    def served(link: socket.socket, number: int) -> None:
        with suppress(OSError), link:
            if kind == "silent":
                link.recv(1 << 16)
                time.sleep(120)
            elif kind == "dripping":
                link.recv(1 << 16)
                for byte in _HEAD + b"100000\r\n\r\n" + b" " * 100_000:
                    link.sendall(bytes((byte,)))
                    time.sleep(DRIP_S)
            else:
                link.recv(1 << 16)
                body = ODD[number % len(ODD)]
                link.sendall(_HEAD + str(len(body)).encode() + b"\r\n\r\n" + body)

    def accepted() -> None:
        number = 0
        while True:
            link, _ = door.accept()
            threading.Thread(target=served, args=(link, number), daemon=True).start()
            number += 1

    threading.Thread(target=accepted, daemon=True).start()
    return door.getsockname()[1]


def asked(services: Services, port: int) -> tuple[list[float], list[float], list[str]]:
    """How long pages and stops took while ten jobs are at it, and what was no answer in words."""
    with services.context.change() as work:
        for job in services.jobs.all():
            use = ProcessorInUse(name="Rack", can=NETWORK, address=f"127.0.0.1:{port}")
            work.jobs.set_rig(job.id, replace(job.rig, chain=(use,)))
    app = create_app(services)
    app.config["WTF_CSRF_ENABLED"] = False
    pages, stops, wrong, over = [], [], [], threading.Event()

    def person(job_id: int) -> None:
        client = app.test_client()
        for method, path, form in (
            ("GET", "takes", {}),
            ("GET", "load", {}),
            ("GET", "rig?sheet=processor", {}),
            ("POST", "load/presets/A", {"content": "aligned"}),
            ("GET", "prove", {}),
            ("POST", "takes/L/1/repeat", {}),
        ) * ROUNDS:
            begun = time.perf_counter()
            with client.open(f"/jobs/{job_id}/{path}", method=method, data=form) as answer:
                status = answer.status_code
            took = time.perf_counter() - begun
            if status >= 500 and (status != 503 or method == "GET"):  # what is pressed may be told that it is gone
                wrong.append(f"{status} {method} {path}")
            (pages if method == "GET" else deeds).append(took)

    def stopper() -> None:
        client = app.test_client()
        while not over.wait(0.1):
            begun = time.perf_counter()
            client.post("/sound/stop")
            stops.append(time.perf_counter() - begun)

    deeds: list[float] = []
    presses = threading.Thread(target=stopper)
    presses.start()
    with ThreadPoolExecutor(JOBS) as people:
        list(people.map(person, range(1, JOBS + 1)))
    over.set()
    presses.join()
    note("    something pressed is answered within", f"{max(deeds):.1f} s")
    return pages, stops, wrong


def main() -> int:
    """One after the other."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        for number in range(JOBS):
            job = services.jobs.create(JobDetails(name=f"Job {number}"))
            services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
        for kind in ("silent", "dripping", "odd"):
            pages, stops, wrong = asked(services, bad(kind))
            line(
                f"a processor that is {kind}, {JOBS} jobs side by side: no answer in words",
                str(len(wrong)),
                "0",
                not wrong,
            )
            for text in wrong[:5]:
                note(f"    {text}", "")
            line(f"  the longest of {len(pages)} pages", f"{max(pages):.2f} s", f"{PAGE_S:g} s", max(pages) < PAGE_S)
            late = sum(took > STOP_S for took in stops)
            line(
                f"  of {len(stops)} stops later than 100 ms",
                f"{late}, median {1000 * statistics.median(stops):.0f} ms",
                "0",
                late == 0,
            )
            services.loading.wait()
        services.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
