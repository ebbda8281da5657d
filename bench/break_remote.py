"""Stop from the seat while strangers are at the door of the remote: half of them silent, half guessing its code.

`.venv/bin/python bench/break_remote.py [--short]`. The server, the strangers and the seat are processes of their own;
strangers come from addresses of their own, and come again as soon as they are put out. They have the lowest priority:
in life they would not compute on this machine.
"""

import os
import socket
import ssl
import subprocess
import sys
import tempfile
import threading
import time
from contextlib import suppress
from http.client import HTTPResponse
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line, note

from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.web import create_app, serving

STRANGERS, STOPS = (6, 3) if SHORT else (50, 200)
LATEST_S = 0.15
_PAUSE_S = 0.02


def served(folder: Path) -> None:
    """The remote of a job, over TLS; says its port and its code."""
    services = open_services(folder)
    job = services.jobs.create(JobDetails(name="Seat"))
    services.rigging.set_rig(job.id, pace="real time", sweep_seconds=1.0)
    serving.prepare_process(services)
    application = create_app(services)
    serving.load_the_rest(application)
    desk = application.extensions["dolce-remote"]
    remote = desk.start(job.id, address="127.0.0.1", secure=True)
    print(remote.port, remote.code, flush=True)
    threading.Event().wait()


class Caller:
    """Asks over connections from one address."""

    def __init__(self, port: int, address: str) -> None:
        self.port, self.address, self.cookie, self.link = port, address, "", None
        self.trusting = ssl.create_default_context()
        self.trusting.check_hostname, self.trusting.verify_mode = False, ssl.CERT_NONE

    def connected(self, *, secure: bool = True) -> socket.socket:
        plain = socket.create_connection(("127.0.0.1", self.port), timeout=20, source_address=(self.address, 0))
        return self.trusting.wrap_socket(plain) if secure else plain

    def ask(self, method: str, path: str, body: str = "", asks: str = "") -> tuple[HTTPResponse, str]:
        """An answer, over the connection that is kept open; `asks` are further lines of the head."""
        self.link = self.link or self.connected()
        self.link.sendall(
            (
                f"{method} {path} HTTP/1.1\r\nHost: 127.0.0.1:{self.port}\r\nCookie: {self.cookie}\r\n"
                f"{asks}Content-Type: application/x-www-form-urlencoded\r\n"
                f"Content-Length: {len(body)}\r\n\r\n{body}"
            ).encode()
        )
        answer = HTTPResponse(self.link)
        answer.begin()
        text = answer.read().decode()
        given = [value.split(";")[0] for key, value in answer.getheaders() if key == "Set-Cookie"]
        self.cookie = "; ".join([*filter(None, [self.cookie]), *given]) if given else self.cookie
        return answer, text

    def come_in(self, code: str) -> str:
        """Try a code; the token of forms."""
        page = self.ask("GET", "/")[1]
        token = page.split('name="csrf_token" value="')[1].split('"')[0]
        self.ask("POST", "/enter", f"csrf_token={token}&code={code}")
        return token


def strangers(port: int) -> None:
    """Without end, fifty times a second each: silent ones hold a connection, the others guess."""

    def silent(address: str) -> None:
        while True:
            with suppress(OSError), Caller(port, address).connected(secure=False) as link:
                link.recv(1)
            time.sleep(_PAUSE_S)

    def guessing(address: str) -> None:
        while True:
            with suppress(OSError, ValueError, IndexError):
                caller = Caller(port, address)
                caller.come_in("WRONGONE")
                caller.link.close()
            time.sleep(_PAUSE_S)

    os.nice(19)
    for number in range(STRANGERS):
        threading.Thread(
            target=(silent, guessing)[number % 2], args=(f"127.0.{number // 5 + 1}.{number % 5 + 1}",), daemon=True
        ).start()
    threading.Event().wait()


def main() -> int:
    """Print all figures."""
    own = [sys.executable, __file__, *(["--short"] if SHORT else [])]
    with tempfile.TemporaryDirectory() as folder:
        server = subprocess.Popen([*own, "--serve", folder], stdout=subprocess.PIPE, text=True)
        others = None
        try:
            port, code = server.stdout.readline().split()
            seat = Caller(int(port), "127.0.0.1")
            seat.come_in(code)
            others = subprocess.Popen([*own, "--strangers", port])
            time.sleep(1.0)
            took = []
            for _ in range(STOPS):
                page = seat.ask("GET", "/")[1]
                token = page.split('name="csrf_token" value="')[1].split('"')[0]
                seat.ask("POST", "/run/1", f"csrf_token={token}")
                time.sleep(0.3)
                begun = time.perf_counter()
                answer, _ = seat.ask("POST", "/stop", f"csrf_token={token}", asks="HX-Request: true\r\n")
                took.append(time.perf_counter() - begun)
                assert answer.status == 200, answer.status
        finally:
            for process in filter(None, (others, server)):
                process.kill()
                process.wait()
    late = sum(item > LATEST_S for item in took)
    line(
        f"{STOPS} stops from the seat beside {STRANGERS} strangers: later than 150 ms",
        f"{late}, latest {1000 * max(took):.0f} ms",
        "0",
        late == 0,
    )
    note("  in the median", f"{1000 * float(np.median(took)):.0f} ms")
    return ended()


if __name__ == "__main__":
    if "--serve" in sys.argv:
        served(Path(sys.argv[sys.argv.index("--serve") + 1]))
    if "--strangers" in sys.argv:
        strangers(int(sys.argv[sys.argv.index("--strangers") + 1]))
    raise SystemExit(main())
