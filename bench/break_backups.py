"""Backups that somebody wrote: is every one refused in words, or put back whole, and is what was there untouched?

`.venv/bin/python bench/break_backups.py [--short]`. Values of a good backup are changed at random, in rows and columns
that chance chooses, with a seal that fits: only what it holds can tell. Whatever is put back is then read on every
page, deleted and let go.
"""

import hashlib
import json
import random
import sqlite3
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

from break_input import PAGES, whole
from promises import SHORT, ended, line, note

from dolce.errors import DolceError
from dolce.services.wiring import Services, open_services
from dolce.web import create_app

FILES, LONGEST_S = (3, 30.0) if SHORT else (400, 30.0)
VALUES = (
    None,
    0,
    -1,
    1,
    7,
    2**63 - 1,
    -(2**63),
    9e999,
    -0.5,
    1e300,
    "",
    "0",
    "[]",
    "{}",
    "null",
    "yesterday",
    "x" * 100_000,
    "[" * 20_000,
    "\x00",
    "\u202e",
    b"",
    b"\x00" * 7,
    b"\xff" * 24,
    b"\x00" * 8_000_000,
)
SCHEMA = (
    "CREATE VIEW more AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT x FROM n",
    "CREATE TRIGGER t AFTER INSERT ON jobs BEGIN DELETE FROM jobs; END",
    "DROP TABLE logbook",
    "ALTER TABLE logbook ADD COLUMN more AS (length(text))",
    "CREATE TABLE more (x)",
    "ALTER TABLE takes DROP COLUMN note",
    "PRAGMA user_version = -5",
)


def changed(good: Path, made: Path, rng: random.Random) -> str:
    """A copy with one to three values or a part of the schema changed; what was changed."""
    data = good.read_bytes()
    length = int.from_bytes(data[-16:-8], "big")
    made.write_bytes(data[: -16 - length])
    message = []
    with closing(sqlite3.connect(made, isolation_level=None)) as link:
        link.execute("PRAGMA foreign_keys=OFF")
        tables = [
            name
            for (name,) in link.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
            if link.execute(f"SELECT count(*) FROM {name}").fetchone()[0]
        ]
        for _ in range(rng.choice((1, 1, 1, 2, 3))):
            if rng.random() < 0.05:
                message.append(rng.choice(SCHEMA))
                statement, value = message[-1], ()
            else:
                table = rng.choice(tables)
                column = rng.choice([row[1] for row in link.execute(f"PRAGMA table_info({table})")])
                row = rng.choice(link.execute(f"SELECT rowid FROM {table}").fetchall())[0]
                value = (rng.choice(VALUES),)
                statement = f"UPDATE {table} SET {column} = ? WHERE rowid = {row}"
                message.append(f"{table}.{column} = {value[0]!r:.30}")
            try:
                link.execute(statement, value)
            except sqlite3.DatabaseError as error:
                message[-1] += f" ({error})"
        link.execute("PRAGMA journal_mode=DELETE")
    database = made.read_bytes()
    manifest = {
        **json.loads(data[-16 - length : -16]),
        "pieces": False,
        "digest": hashlib.blake2b(database, digest_size=32).hexdigest(),
    }
    text = json.dumps(manifest).encode()
    made.write_bytes(database + text + len(text).to_bytes(8, "big") + data[-8:])
    return "; ".join(message)


def put_back(services: Services, file: Path) -> bool:
    """Whether it was taken; words otherwise."""
    with file.open("rb") as given:
        name = services.backups.add(given, file.name)
    try:
        services.backups.begin_restore(name)
    except DolceError:
        services.backups.delete(name)
        raise
    services.folder_work.wait()
    services.backups.delete(name)
    return not services.folder_work.present.fault


def wrong_after(services: Services, before: list) -> list[str]:
    """What no longer answers, of the jobs that were there and of those that came; those are let go again."""
    client, wrong = create_app(services).test_client(), []
    jobs = services.jobs.all()
    if [(job.id, job.name, job.changed_at) for job in jobs if job.id in {item[0] for item in before}] != before:
        wrong.append("a job that was there has changed")
    for job in jobs:
        if job.id in {item[0] for item in before}:
            continue
        for path in PAGES:
            with client.get(path.replace("/jobs/1/", f"/jobs/{job.id}/")) as answer:
                if answer.status_code >= 500:
                    wrong.append(f"{answer.status_code} {path}")
        services.jobs.delete(job.id)
        with services.context.change() as work:
            work.jobs.purge(job.id)
    return wrong


def main() -> int:
    """All files into one folder."""
    rng, taken, broke, longest, refused = random.Random(8), 0, [], 0.0, 0
    with tempfile.TemporaryDirectory() as name:
        made = Path(name) / "made"
        whole(made)
        good = next(iter(made.glob("**/*.dolce-backup")))
        services = open_services(Path(name) / "data")
        assert put_back(services, good)
        before = [(job.id, job.name, job.changed_at) for job in services.jobs.all()]
        for number in range(FILES):
            file = Path(name) / f"{number}.dolce-backup"
            what = changed(good, file, rng)
            begun = time.perf_counter()
            try:
                came = put_back(services, file)
                wrong = wrong_after(services, before)
                taken += came
                refused += not came
            except DolceError:
                refused, wrong = refused + 1, wrong_after(services, before)
            except Exception as error:
                wrong = [f"{type(error).__name__}: {str(error)[:200]}"]
            if wrong:
                broke.append(what)
                print(f"        {what}: {wrong[:3]}", file=sys.stderr, flush=True)
            longest = max(longest, time.perf_counter() - begun)
            file.unlink()
        services.close()
    line(
        f"{FILES} backups that somebody changed: broke a page or a job that was there", str(len(broke)), "0", not broke
    )
    line(
        "  the longest, all pages of what was put back included",
        f"{longest:.1f} s",
        f"{LONGEST_S:g} s",
        longest < LONGEST_S,
    )
    note("  refused, put back", f"{refused}, {taken}")
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
