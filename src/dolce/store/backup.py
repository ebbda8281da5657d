"""Jobs as one file, with every take, version and line of the logbook, and back again.

A backup is a database of its own with the same tables, and a trailer behind it that says what is inside and holds the
BLAKE2b digest of all that stands before it, made of the digests of its pieces. A job comes back under new numbers:
everything else is the same to the bit.
"""

import hashlib
import json
import os
import sqlite3
import threading
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing, suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from urllib.parse import parse_qsl, urlencode

from dolce.errors import FormatError, StorageError
from dolce.store.database import Database, engine_of
from dolce.store.durable import PART, move_in
from dolce.store.steps import known_steps, migrate, newest_step
from dolce.store.trouble import in_words

OLDER = ".old"                      # a copy that is brought up to date
_MAGIC = b"DOLCEBAK"
_PIECE, _HASHED_PIECE = 1 << 20, 1 << 25
_LARGE = 1 << 26                    # bytes of a backup, from which on the log of the database is taken up afterwards
_MOST_TRAILER = 1 << 20
_CACHE = "PRAGMA cache_size=-65536"       # KiB, so that pages are written in rows
_AT_ONCE = 96                       # takes whose samples are copied between two looks at the stop
# Columns that hold numbers of other rows; `id` is a row's own.
_OF_JOB: dict[str, dict[str, str]] = {name: {"id": name, "job_id": "jobs"} for name in (
    "plan_steps", "rounds", "passes", "alignment_steps", "correction_steps", "logbook", "selections",
    "alignment_versions", "correction_versions", "kept_states")}
_OF_JOB["stories"] = {"job_id": "jobs"}                                   # one a job, under its number
_OTHERS: dict[str, dict[str, str]] = {"jobs": {"id": "jobs", "round_id": "rounds", "follows_id": "jobs"},
                                      "samples": {"id": "samples"},
                                      "takes": {"id": "takes", "round_id": "rounds", "samples_id": "samples"}}
_SHARED = ("states", "taps", "state_taps")                                # kept under the hash of what they are
# Numbers of rounds that stand inside values.
_ROUNDS_IN = {"alignment_steps": ("alignment", ("$.round_id",)), "alignment_versions": ("alignment", ("$.round_id",)),
              "correction_steps": ("correction", ("$.round_id", "$.alignment.round_id")),
              "correction_versions": ("correction", ("$.round_id", "$.alignment.round_id"))}
_STATES_OF = (
    "SELECT processor_id FROM {0}.jobs WHERE id IN ({1}) UNION SELECT simulated_id FROM {0}.jobs WHERE id IN ({1})"
    " UNION SELECT state_id FROM {0}.rounds WHERE job_id IN ({1})"
    " UNION SELECT state_id FROM {0}.kept_states WHERE job_id IN ({1})"
)

Told = Callable[[float], None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Manifest:
    """What is inside.

    Attributes
    ----------
    jobs : names
    takes : how many
    made_at : in words
    revision : of the tables
    digest : of the database before the trailer
    pieces : whether it is made of the digests of pieces; of one long run in older backups
    """

    jobs: tuple[str, ...]
    takes: int
    made_at: str
    revision: str
    digest: str = ""
    pieces: bool = False


def write_backup(database: Database, job_ids: Sequence[int], path: Path, *, made_at: str, told: Told) -> Manifest:
    """Write jobs into a file, which appears when it is whole; `told` hears how far it is, and may raise to end it.

    Raises
    ------
    StorageError
        Where the disk is full or can't be written; nothing is left behind then.
    """
    beside = path.with_name(path.name + PART)
    try:
        beside.unlink(missing_ok=True)
        os.close(os.open(beside, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        empty = engine_of(beside)
        migrate(empty)
        empty.dispose()
        with closing(sqlite3.connect(beside, isolation_level=None)) as link:
            link.execute("PRAGMA journal_mode=OFF")
            link.execute("PRAGMA synchronous=OFF")
            link.execute(_CACHE)
            link.execute("ATTACH ? AS src", (str(database.folder / "dolce.sqlite"),))
            manifest = _filled(link, job_ids, made_at, told)
            link.execute("DETACH src")
        _sealed(beside, manifest, told)
        move_in(beside, path)
    except (sqlite3.Error, OSError) as error:
        beside.unlink(missing_ok=True)
        if isinstance(error, sqlite3.Error):
            raise in_words(error, where=str(path)) from error
        raise StorageError(f"{error.strerror or error}.", where=str(path),
                           remedy="Make room on the disk, then do it again; every job is as it was.") from error
    except BaseException:
        beside.unlink(missing_ok=True)
        raise
    return manifest


def read_manifest(path: Path, *, name: str = "") -> Manifest:
    """What a backup says of itself; its checksum is not looked at yet. `name` is what messages call the file.

    Raises
    ------
    FormatError
        Where it is no backup, was cut off, or comes of a newer version.
    """
    return _trailer(path, name or path.name)[0]


def restore_backup(database: Database, path: Path, *, renamed: Callable[[str, set[str]], str], told: Told) -> list[int]:
    """Put the jobs of a backup beside those that are there, in one step; numbers of the new ones.

    Parameters
    ----------
    renamed : what a job is called, given its name and those that are taken

    Raises
    ------
    FormatError
        Where the file is no backup, was cut off or changed, or comes of a newer version; nothing is changed then.
    StorageError
        Where the disk is full.
    """
    manifest, size = _trailer(path, path.name)
    older = path.with_name(path.name + OLDER)
    source = path
    try:
        # Looked at while its rows are put in, which are not kept before its digest is known to be right.
        with ThreadPoolExecutor(max_workers=1) as beside:
            digest = beside.submit(_digest, path, size, lambda _: None, pieces=manifest.pieces, at_a_time=1)

            def whole() -> None:
                if digest.result() != manifest.digest:
                    raise FormatError("its contents are no longer those that were written.", where=path.name,
                                      remedy="Use another copy of it. Nothing was changed.")

            if manifest.revision != newest_step():
                whole()
                _copied(path, older, size)
                engine = engine_of(older)
                migrate(engine)
                engine.dispose()
                source = older
            try:
                jobs = _restored(database, source, renamed, told, whole=whole, large=size > _LARGE)
            except sqlite3.Error:
                whole()                              # a file that was changed may well be no database any more
                raise
        if size > _LARGE:
            threading.Thread(target=_taken_up, args=(database,), daemon=True, name="log of the database").start()
        return jobs
    except sqlite3.Error as error:
        raise in_words(error, where=path.name) from error
    except OSError as error:
        raise StorageError(f"{error.strerror or error}.", where=str(path),
                           remedy="Make room on the disk, then do it again; every job is as it was.") from error
    finally:
        for leftover in (older, older.with_name(older.name + "-wal"), older.with_name(older.name + "-shm")):
            leftover.unlink(missing_ok=True)


def clear_leftovers(folder: Path, suffix: str) -> None:
    """Take away what was written or put back when the application was killed; nobody else may be at work here.

    Only what is named after a backup (`suffix`) by ourselves: other files of the folder are the person's own.
    """
    for kind in (PART, OLDER):
        for beside in ("", "-wal", "-shm", "-journal"):
            for path in folder.glob(f"*{suffix}{kind}{beside}"):
                path.unlink(missing_ok=True)


def _filled(link: sqlite3.Connection, job_ids: Sequence[int], made_at: str, told: Told) -> Manifest:
    ids = ", ".join(str(int(one)) for one in job_ids)
    link.execute("BEGIN")
    states = _STATES_OF.format("src", ids)
    link.execute(f"INSERT INTO states SELECT * FROM src.states WHERE id IN ({states})")
    link.execute("INSERT INTO state_taps SELECT * FROM src.state_taps WHERE state_id IN (SELECT id FROM main.states)")
    link.execute("INSERT INTO taps SELECT * FROM src.taps WHERE id IN (SELECT taps_id FROM main.state_taps)")
    link.execute(f"INSERT INTO jobs SELECT * FROM src.jobs WHERE id IN ({ids})")
    for table in _OF_JOB:
        link.execute(f"INSERT INTO {table} SELECT * FROM src.{table} WHERE job_id IN ({ids})")
    link.execute("INSERT INTO takes SELECT * FROM src.takes WHERE round_id IN (SELECT id FROM main.rounds)")
    wanted = [row[0] for row in link.execute(
        "SELECT DISTINCT samples_id FROM main.takes WHERE samples_id IS NOT NULL ORDER BY samples_id")]
    for first in range(0, len(wanted), _AT_ONCE):
        told(0.7 * first / len(wanted))
        some = ", ".join(map(str, wanted[first:first + _AT_ONCE]))
        link.execute(f"INSERT INTO samples SELECT * FROM src.samples WHERE id IN ({some})")
    names = tuple(row[0] for row in link.execute("SELECT name FROM main.jobs ORDER BY id"))
    takes = link.execute("SELECT count(*) FROM main.takes").fetchone()[0]
    revision = link.execute("SELECT version_num FROM main.alembic_version").fetchone()[0]
    link.execute("COMMIT")
    return Manifest(jobs=names, takes=takes, made_at=made_at, revision=revision)


def _sealed(path: Path, manifest: Manifest, told: Told) -> None:
    """The trailer behind the database: what is inside as JSON, its length, and the mark of a backup."""
    for left in ("-wal", "-shm"):
        path.with_name(path.name + left).unlink(missing_ok=True)
    digest = _digest(path, path.stat().st_size, lambda part: told(0.7 + 0.3 * part), pieces=True, at_a_time=2)
    text = json.dumps({**asdict(manifest), "digest": digest, "pieces": True}).encode()
    with path.open("ab") as file:
        file.write(text + len(text).to_bytes(8, "big") + _MAGIC)


def _trailer(path: Path, name: str) -> tuple[Manifest, int]:
    """The manifest, and how many bytes stand before the trailer."""
    end = len(_MAGIC) + 8
    try:
        whole = path.stat().st_size
        with path.open("rb") as file:
            file.seek(max(0, whole - end))
            tail = file.read(end)
            length = int.from_bytes(tail[:8], "big")
            if tail[8:] != _MAGIC or not 2 <= length <= min(_MOST_TRAILER, whole - end):
                raise FormatError("this is no backup of Dolce, or it was cut off.", where=name,
                                  remedy="Choose a file that Dolce has written, and copy it whole.")
            file.seek(whole - end - length)
            values = json.loads(file.read(length))
        manifest = Manifest(jobs=tuple(map(str, values["jobs"])), takes=int(values["takes"]),
                            made_at=str(values["made_at"]), revision=str(values["revision"]),
                            digest=str(values["digest"]), pieces=values.get("pieces") is True)
    except OSError as error:
        raise StorageError(f"{error.strerror or error}.", where=name, remedy="Check the file.") from error
    except (ValueError, KeyError, TypeError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError("what it says of itself can't be read.", where=name,
                          remedy="Use another copy of it.") from error
    if manifest.revision not in known_steps():
        raise FormatError(f"it was written by a newer version of Dolce (step {manifest.revision[:20]}).",
                          where=name, remedy="Use that version. Nothing was changed.")
    return manifest, whole - end - length


def _digest(path: Path, size: int, told: Told, *, pieces: bool, at_a_time: int) -> str:
    """Of the first bytes of a file: in one run, or of pieces side by side, which two cores do twice as fast."""
    if not pieces:
        return _digest_of(path, 0, size, told).hex()
    found = hashlib.blake2b(digest_size=32)
    starts = range(0, size, _HASHED_PIECE)
    with ThreadPoolExecutor(max_workers=at_a_time) as both:
        parts: list[Future[bytes]] = [both.submit(_digest_of, path, start, min(size, start + _HASHED_PIECE),
                                                  lambda _: None) for start in starts]
        try:
            for start, part in zip(starts, parts, strict=True):
                found.update(part.result())
                told(min(1.0, (start + _HASHED_PIECE) / size))
        except BaseException:
            both.shutdown(cancel_futures=True)
            raise
    return found.hexdigest()


def _digest_of(path: Path, start: int, end: int, told: Told) -> bytes:
    found = hashlib.blake2b(digest_size=32)
    with path.open("rb") as file:
        file.seek(start)
        done = start
        while done < end:
            piece = file.read(min(_PIECE, end - done))
            if not piece:
                break
            found.update(piece)
            done += len(piece)
            told(done / end)
    return found.digest()


def _taken_up(database: Database) -> None:
    """Bring what stands in the log of the database into the database itself; nobody waits for it."""
    with suppress(sqlite3.Error), closing(sqlite3.connect(database.folder / "dolce.sqlite", timeout=1)) as link:
        link.execute("PRAGMA wal_checkpoint(PASSIVE)")


def _copied(path: Path, to: Path, size: int) -> None:
    with path.open("rb") as file, to.open("wb") as out:
        while size > 0:
            piece = file.read(min(_PIECE, size))
            out.write(piece)
            size -= len(piece)


def _restored(database: Database, source: Path, renamed: Callable[[str, set[str]], str], told: Told, *,
              whole: Callable[[], None], large: bool) -> list[int]:
    """All rows of a backup under numbers that are free, in one transaction, which `whole` may end before it is kept."""
    with closing(
        sqlite3.connect(
            f"{(database.folder / 'dolce.sqlite').resolve().as_uri()}?mode=rw",
            isolation_level=None,
            timeout=15,
            uri=True,
        )
    ) as link:
        link.execute("PRAGMA synchronous=FULL")
        link.execute(_CACHE)
        if large:
            link.execute("PRAGMA wal_autocheckpoint=0")
        link.execute("PRAGMA trusted_schema=OFF")  # whatever a stranger's file holds, it only lies there
        # Read as it lies: nothing is ever written into a backup.
        link.execute("ATTACH ? AS src", (f"{source.resolve().as_uri()}?mode=ro&immutable=1",))
        link.execute("BEGIN IMMEDIATE")
        try:
            jobs = _inserted(link, renamed, told)
            whole()
            link.execute("COMMIT")
        except BaseException:
            link.execute("ROLLBACK")
            raise
        link.execute("DETACH src")
    return jobs


def _inserted(link: sqlite3.Connection, renamed: Callable[[str, set[str]], str], told: Told) -> list[int]:
    more = {table: link.execute(f"SELECT coalesce(max(id), 0) FROM main.{table}").fetchone()[0]
            for table in (*_OF_JOB, *_OTHERS) if table != "stories"}
    for table in _SHARED:
        link.execute(f"INSERT OR IGNORE INTO main.{table} SELECT * FROM src.{table}")
    samples = [row[0] for row in link.execute("SELECT id FROM src.samples ORDER BY id")]
    chosen, values = _row_of(link, "samples", _OTHERS["samples"], more)
    for first in range(0, len(samples), _AT_ONCE):
        told(0.95 * first / len(samples))
        some = ", ".join(map(str, samples[first:first + _AT_ONCE]))
        link.execute(f"INSERT INTO main.samples ({chosen}) SELECT {values} FROM src.samples WHERE id IN ({some})")
    told(0.95)
    for table, numbers in (("jobs", _OTHERS["jobs"]), *_OF_JOB.items(), ("takes", _OTHERS["takes"])):
        chosen, values = _row_of(link, table, numbers, more)
        link.execute(f"INSERT INTO main.{table} ({chosen}) SELECT {values} FROM src.{table}")
    for table, (column, paths) in _ROUNDS_IN.items():
        for path in paths:
            link.execute(f"UPDATE main.{table} SET {column} = json_set({column}, ?, json_extract({column}, ?) + ?) "
                         f"WHERE id > ? AND json_extract({column}, ?) IS NOT NULL",
                         (path, path, more["rounds"], more[table], path))
    for number, address in link.execute("SELECT id, address FROM main.selections WHERE id > ?",
                                        (more["selections"],)).fetchall():
        link.execute("UPDATE main.selections SET address = ? WHERE id = ?", (_moved(address, more["rounds"]), number))
    link.execute("UPDATE main.jobs SET follows_id = NULL WHERE id > ? AND follows_id NOT IN "
                 "(SELECT id FROM main.jobs WHERE id > ?)", (more["jobs"], more["jobs"]))    # what it followed stayed
    new = link.execute("SELECT id, name FROM main.jobs WHERE id > ? ORDER BY id", (more["jobs"],)).fetchall()
    taken = {row[0] for row in link.execute("SELECT name FROM main.jobs WHERE id <= ? AND deleted_at IS NULL",
                                            (more["jobs"],))}
    for number, name in new:
        wanted = renamed(name, taken)
        taken.add(wanted)
        link.execute("UPDATE main.jobs SET name = ?, deleted_at = NULL WHERE id = ?", (wanted, number))
    return [number for number, _ in new]


def _row_of(link: sqlite3.Connection, table: str, numbers: Mapping[str, str],
            more: Mapping[str, int]) -> tuple[str, str]:
    """Columns of a table, and what each gets from the backup: numbers moved up to where they are free."""
    columns = [row[1] for row in link.execute(f"PRAGMA main.table_info({table})")]
    values = [f'"{one}" + {more[numbers[one]]}' if one in numbers else f'"{one}"' for one in columns]
    return ", ".join(f'"{one}"' for one in columns), ", ".join(values)


def _moved(address: str, rounds: int) -> str:
    """A kept selection's address, its rounds under their new numbers."""
    return urlencode([(key, str(int(value) + rounds) if key in ("round", "vs_round") and value.isdigit() else value)
                      for key, value in parse_qsl(address, keep_blank_values=True)])

