"""Hostile input to every address: does each answer in words, soon, never with a fault of ours, and is memory let go?

`.venv/bin/python bench/break_input.py [--short] [REQUESTS]`. Addresses and forms are taken from the applications
themselves, so none is left out; files of every format are changed at random. The remote's own addresses are asked too.
Two processes beside each other, each on folders of its own.
"""

import ctypes
import functools
import gc
import io
import os
import random
import shutil
import statistics
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from multiprocessing import get_context
from pathlib import Path
from urllib.parse import quote

from flask import Flask
from flask.testing import FlaskClient
from hostile import FIELDS, TEXTS, WHOLE, Form, forms_of, mutated, strange_files, wrong_form
from promises import SHORT, ended, line, note
from werkzeug.datastructures import MultiDict

from dolce.errors import DolceError
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import Services, open_services
from dolce.web import create_app
from dolce.web.stops.align import sheets as align
from dolce.web.stops.load import sheets as load
from dolce.web.stops.rig import sheets as rig
from dolce.web.stops.room import sheets as room
from dolce.web.stops.shape import sheets as shape

REQUESTS = 120 if SHORT else next((int(word) for word in sys.argv[1:] if word.isdigit()), 100_000)
WORKERS = 1 if SHORT else 2
IN_ONE_FOLDER = REQUESTS if SHORT else 2500  # then a fresh copy: jobs must not only grow odder
TIDY_EVERY, LONGEST_S, WEIGHED = 100, 5.0, 5
OF_THE_REMOTE = 0.06  # of the requests; it has few addresses
SHEETS = {"room": room.SHEETS, "rig": rig.SHEETS, "align": align.SHEETS, "shape": shape.SHEETS, "load": load.SHEETS}
PAGES = (
    "/",
    "/help",
    *(
        f"/jobs/1/{page}"
        for page in (
            "edit",
            "delete",
            "takes",
            "takes?sheet=rows",
            "takes?sheet=imported_files",
            "takes/imported",
            "takes/rows",
            "takes/L/1/cell",
            "read",
            "prove",
            "prove/drift",
            "prove/tolerances",
            "report",
            "remote",
            "load/listen/room",
            "shape/clean/L",
        )
    ),
    *(f"/jobs/1/{stop}?sheet={sheet}" for stop, sheets in SHEETS.items() for sheet in sheets),
)


def whole(folder: Path) -> None:
    """One job with takes, filters and backups, one with nothing."""
    services = open_services(folder)
    for name in ("Full", "Empty"):
        job = services.jobs.create(JobDetails(name=name))
        services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_spot(1, 1)
    services.sound.wait()
    services.aligning.use_proposal(1)
    services.finding.find(1)
    services.backups.begin_backup([1])
    services.folder_work.wait()
    services.close()


def good_files(client: FlaskClient) -> list[tuple[bytes, str]]:
    """A file of every format that can be brought in, as it is written here."""
    found = []
    for path, name in (
        ("room/room.json", "room.json"),
        ("room/places.csv", "places.csv"),
        ("takes/test-signal.wav", "sweep.wav"),
        ("takes/1/recording", "take.flac"),
        ("shape/target/L.csv", "target.csv"),
        ("rig/rehearsal-microphone-0.txt", "mic.txt"),
        ("read/1/L/responses.sofa", "responses.sofa"),
        ("read/curves.csv", "curves.csv"),
        ("read/1/impulse.wav", "impulse.wav"),
        ("takes/imported/whole-spot.wav", "spot.wav"),
    ):
        with client.get(f"/jobs/1/{path}") as answer:
            if answer.status_code == 200:
                found.append((answer.data, name))
    backup = client.application.extensions["dolce"].backups.files()[0].name
    with client.get(f"/backups/{backup}") as answer:
        found.append((answer.data, backup))
    return found


class Asker:
    """Asks one application; counts what it answers, and remembers what took long."""

    def __init__(self, app: Flask, rng: random.Random, files: list[tuple[bytes, str]]) -> None:
        app.config["WTF_CSRF_ENABLED"] = False
        self.app, self.client, self.rng, self.files = app, app.test_client(), rng, files
        self.counts: Counter = Counter()
        self.longest = (0.0, "")
        self.base = "http://127.0.0.1"
        self.addresses = self._addresses()
        self.forms: list[Form] = []

    def look_for_forms(self) -> None:
        """What pages offer now."""
        forms: dict[Form, None] = {}
        for path in PAGES[::3] if SHORT else PAGES:
            with self.client.get(path) as answer:
                if answer.mimetype == "text/html":
                    forms.update(dict.fromkeys(forms_of(answer.text)))
        self.forms = list(forms)

    def ask(self) -> None:
        """One request of a kind that chance chooses."""
        chosen = self.rng.random()
        if self.forms and chosen < 0.5:
            form = self.rng.choice(self.forms)
            path, fields = wrong_form(self.rng, form)
            self._ask("POST", path, fields, form.files)
        elif self.forms and chosen < 0.65:
            form = self.rng.choice([form for form in self.forms if form.files])
            self._ask("POST", form.path, [*form.fields], form.files)
        else:
            method, path = next(self.addresses)
            fields = [(field, self.rng.choice(TEXTS)) for field in FIELDS if self.rng.random() < 0.3]
            names = [self.rng.choice(("file", "recording", "recordings", "curve", "backup"))]
            self._ask(method, path, fields, names if self.rng.random() < 0.3 else ())

    def _addresses(self) -> Iterator[tuple[str, str]]:
        """All of them in turn, again and again, with hostile values in them."""
        rules = [rule for rule in self.app.url_map.iter_rules() if rule.endpoint != "static"]
        while True:
            for rule in sorted(rules, key=str):
                for method in sorted(rule.methods & {"GET", "POST"}):
                    text = rule.rule
                    for name, converter in rule._converters.items():
                        number = type(converter).__name__ == "ShortInteger"
                        value = self.rng.choice(WHOLE if number else TEXTS)
                        if self.rng.random() < 0.7 and number:
                            value = "1"
                        for form in (f"<int:{name}>", f"<{name}>"):
                            text = text.replace(form, quote(value, safe="") or "-")
                    yield method, text

    def _ask(self, method: str, path: str, fields: list[tuple[str, str]], files: tuple[str, ...] | list[str]) -> None:
        data = MultiDict(fields)
        for name in files:
            content, file_name = self.rng.choice(self.files)
            data.add(name, (io.BytesIO(mutated(self.rng, content)), file_name))
        headers = {"HX-Request": "true"} if self.rng.random() < 0.5 else {}
        begun = time.perf_counter()
        form = (
            {"data": data, "content_type": "multipart/form-data"}
            if method == "POST"
            else {"query_string": MultiDict(fields)}
        )
        with self.client.open(path, base_url=self.base, method=method, headers=headers, **form) as answer:
            for _ in answer.response:
                pass
            status = answer.status_code
        took = time.perf_counter() - begun
        self.longest = max(self.longest, (took, f"{method} {path[:100]}"))
        self.counts[status] += 1
        if status >= 500 and status not in (503, 507):
            print(f"        {status} {method} {path[:100]} {fields[:6]!r:.300}", flush=True)
        if took > LONGEST_S:
            print(f"        {took:.1f} s {method} {path[:100]} {fields[:8]!r:.300}", flush=True)


class Seat(Asker):
    """The same at a remote, whose device comes in again whenever it is put out."""

    def __init__(self, services: Services, rng: random.Random) -> None:
        self.desk = create_app(services).extensions["dolce-remote"]
        super().__init__(self.desk.app_of(self.desk, False), rng, strange_files(rng))

    def ask(self) -> None:
        if self.desk.present is None or not self.desk.present.token:
            self.desk.stop()
            if not tidy(self.desk.services):
                return
            self.desk.start(1, address="127.0.0.1", secure=False)
            self.base = self.desk.present.url
            self.client.post("/enter", base_url=self.base, data={"code": self.desk.present.code})
        super().ask()


def tidy(services: Services) -> bool:
    """Silence, and only the two jobs that were there: what requests have made must not pile up. Whether the first one
    still is: a request may have let it go for good."""
    services.sound.stop()
    with suppress(DolceError):
        services.folder_work.stop()
    with services.context.change() as work:
        for job_id, *_ in work.jobs.deleted():
            work.jobs.restore(job_id)
        for job in work.jobs.listing()[0]:
            if job.id > 2:
                work.jobs.purge(job.id)
    for file in services.backups.files()[3:]:
        services.backups.delete(file.name)
    return any(job.id == 1 for job in services.jobs.all())


def let_go() -> float:
    """Megabytes held when all that can be given back is; what caches keep has bounds, and is let go too."""
    gc.collect()
    for kept in [cached for cached in gc.get_objects() if isinstance(cached, functools._lru_cache_wrapper)]:
        if (kept.__module__ or "").startswith("dolce"):
            kept.cache_clear()
    gc.collect()
    with suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def asked(seed: int, requests: int) -> tuple[Counter, tuple[float, str], list[float]]:
    """So many requests; status codes, the one that took longest, and memory after each folder."""
    rng, counts, longest, held = random.Random(seed), Counter(), (0.0, ""), []
    with tempfile.TemporaryDirectory() as name:
        made = Path(name) / "made"
        whole(made)
        done = 0
        while done < requests:
            folder = Path(name) / "data"
            shutil.copytree(made, folder)
            services = open_services(folder)
            pages = Asker(create_app(services), rng, [])
            pages.files = [*good_files(pages.client), *strange_files(rng)]
            pages.look_for_forms()
            seat = Seat(services, rng)
            for number in range(min(IN_ONE_FOLDER, requests - done)):
                (seat if rng.random() < OF_THE_REMOTE else pages).ask()
                if number % TIDY_EVERY == TIDY_EVERY - 1 and not tidy(services):
                    break
            done += number + 1
            for asker in (pages, seat):
                counts += asker.counts
                longest = max(longest, asker.longest)
            seat.desk.close()
            pages.app.extensions["dolce-remote"].close()
            services.close()
            shutil.rmtree(folder)
            del pages, seat, services
            held.append(let_go())
            print(
                f"{done} of {requests}, {held[-1]:.0f} MB, {sys.getallocatedblocks():,} blocks",
                file=sys.stderr,
                flush=True,
            )
    return counts, longest, held


def main() -> int:
    """Two processes beside each other."""
    with ProcessPoolExecutor(max_workers=WORKERS, mp_context=get_context("fork")) as workers:
        found = list(workers.map(asked, range(3, 3 + WORKERS), [REQUESTS // WORKERS] * WORKERS))
    counts = sum((item[0] for item in found), Counter())
    broke = sum(count for status, count in counts.items() if status >= 500 and status not in (503, 507))
    line(f"{sum(counts.values())} hostile requests: answered by a fault of ours", str(broke), "0", broke == 0)
    seconds, where = max(item[1] for item in found)
    line("  the longest answer", f"{seconds:.1f} s", f"{LONGEST_S:g} s", seconds < LONGEST_S, timed=True)
    note(f"    {where}", "")
    for _, _, held in found:
        if len(held) < 2 * WEIGHED:
            continue
        # The first folder fills what caches keep; what one folder leaves in between is as chance has it.
        before, after = statistics.median(held[1 : 1 + WEIGHED]), statistics.median(held[-WEIGHED:])
        line(
            f"  memory after the last {WEIGHED} of {len(held)} folders against the 2nd to {1 + WEIGHED}th, medians",
            f"{before:.0f} to {after:.0f} MB",
            "10 %",
            after < 1.1 * before,
        )
    for status, count in sorted(counts.items()):
        note(f"  status {status}", str(count))
    return ended()


if __name__ == "__main__":
    if not SHORT and "MALLOC_ARENA_MAX" not in os.environ:  # one arena: else what is held says little of what is used
        os.execve(sys.executable, [sys.executable, *sys.argv], {**os.environ, "MALLOC_ARENA_MAX": "1"})
    sys.exit(main())
