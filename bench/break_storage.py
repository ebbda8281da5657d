"""Faults of disk and database: does the application say so in words, keep what is safe, and go on when they are gone?

`.venv/bin/python bench/break_storage.py [--short]`; short runs fewer places of damage.
"""

import random
import shutil
import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from promises import SHORT, ended, line
from sqlalchemy import event

from dolce.errors import DolceError
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import Services, open_services

DAMAGES = 4 if SHORT else 200
BUSY_S = 0.3


def make(folder: Path) -> Services:
    """Two jobs, the first with some takes."""
    services = open_services(folder)
    for name in ("One", "Two"):
        job = services.jobs.create(JobDetails(name=name))
        services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_spot(1, 1)
    services.sound.wait()
    return services


@contextmanager
def full(services: Services) -> Iterator[None]:
    """As if no page more fitted on the disk."""

    def limit(connection, _record=None) -> None:
        connection.execute("PRAGMA max_page_count = 1")  # SQLite takes the present size instead

    engine = services.context.database.engine
    event.listen(engine, "connect", limit)
    engine.dispose()
    try:
        yield
    finally:
        event.remove(engine, "connect", limit)
        engine.dispose()


@contextmanager
def held(services: Services) -> Iterator[None]:
    """As if a backup held the database; waiting is shortened."""

    def hurry(connection, _record=None) -> None:
        connection.execute(f"PRAGMA busy_timeout = {round(1000 * BUSY_S)}")

    engine = services.context.database.engine
    event.listen(engine, "connect", hurry)
    engine.dispose()
    with closing(sqlite3.connect(services.context.database.folder / "dolce.sqlite", isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        try:
            yield
        finally:
            other.execute("ROLLBACK")
            event.remove(engine, "connect", hurry)
            engine.dispose()


def in_mid_pass(services: Services, trouble: Callable[[Services], object]) -> tuple[bool, bool, bool]:
    """A pass meets the trouble: it ends and says so, takes before it are safe, and the next one runs to its end."""
    before = services.taking.board(1).taken
    fault = trouble(services)
    services.taking.run_spot(1, 2)
    with fault:
        services.sound.wait(30)
        last = services.taking.board(1).last_pass
        message = last.state == "failed" and last.message and services.sound.running() is None
        safe = services.taking.board(1).taken >= before
    services.taking.run_spot(1, 3)
    services.sound.wait(30)
    return bool(message), safe, services.taking.board(1).last_pass.state == "done"


def passes() -> None:
    """Troubles that come while a pass runs."""
    for name, trouble in (("disk full", full), ("database held by something else", held)):
        counts = [0, 0, 0]
        runs = 1 if SHORT else 12
        for _ in range(runs):
            with tempfile.TemporaryDirectory() as folder:
                services = make(Path(folder) / "data")
                for k, good in enumerate(in_mid_pass(services, trouble)):
                    counts[k] += good
                services.close()
        line(
            f"{name} in mid-pass, {runs} times: it ends, and takes before are safe",
            f"{counts[0]}, {counts[1]}",
            f"{runs}, {runs}",
            counts[:2] == [runs, runs],
        )
        line("  and the next pass runs, without a restart", str(counts[2]), str(runs), counts[2] == runs)


def damage() -> None:
    """Bytes of the file overwritten at random: words or service, never a trace, and the file is not emptied."""
    rng = random.Random(6)
    words = served = broke = 0
    with tempfile.TemporaryDirectory() as name:
        whole = Path(name) / "whole"
        make(whole).close()
        size = (whole / "dolce.sqlite").stat().st_size
        for _ in range(DAMAGES):
            folder = Path(name) / "hurt"
            shutil.copytree(whole, folder)
            with (folder / "dolce.sqlite").open("r+b") as file:
                for _ in range(rng.choice((1, 20))):
                    file.seek(rng.randrange(size) if rng.random() < 0.5 else rng.randrange(4096))
                    file.write(rng.randbytes(rng.choice((1, 16, 400))))
            try:
                services = open_services(folder)
                try:
                    jobs, _ = services.jobs.listing()
                    for job in jobs:
                        services.taking.board(job.id)
                        services.progress.status(job.id)
                    served += 1
                finally:
                    services.close()
            except DolceError:
                words += 1
            except Exception as error:
                broke += 1
                print(f"        {type(error).__name__}: {str(error)[:120]}")
            shutil.rmtree(folder)
    line(f"{DAMAGES} damaged files: ended in a trace", f"{broke} ({served} served, {words} told)", "0", broke == 0)


def main() -> int:
    """All faults."""
    passes()
    damage()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
