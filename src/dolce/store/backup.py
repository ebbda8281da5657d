"""Jobs as one file, with every take, version and line of the logbook.

A backup is a database of its own with the same tables, and a trailer behind it that says what is inside and holds the
BLAKE2b digest of all that stands before it, made of the digests of its pieces. `restoring` puts
its jobs back.
"""

import hashlib
import json
import os
import sqlite3
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from dataclasses import asdict, dataclass
from pathlib import Path

from dolce.errors import FormatError, StorageError
from dolce.store.database import Database, engine_of
from dolce.store.durable import PART, move_in
from dolce.store.steps import known_steps, migrate, written_by
from dolce.store.trouble import in_words

OLDER = ".old"  # a copy that is brought up to date
_MAGIC = b"DOLCEBAK"
_PIECE, _HASHED_PIECE = 1 << 20, 1 << 25
_MOST_TRAILER = 1 << 20
CACHE = "PRAGMA cache_size=-65536"  # KiB, so that pages are written in rows
AT_ONCE = 96  # takes whose samples are copied between two looks at the stop
# Tables whose rows say which job they are of.
OF_JOB = (
    "plan_steps",
    "rounds",
    "passes",
    "alignment_steps",
    "correction_steps",
    "logbook",
    "selections",
    "alignment_versions",
    "correction_versions",
    "kept_states",
    "reports",
)
_STATES_OF = (
    "SELECT processor_id FROM {0}.jobs WHERE id IN ({1}) UNION SELECT simulated_id FROM {0}.jobs WHERE id IN ({1})"
    " UNION SELECT state_id FROM {0}.rounds WHERE job_id IN ({1})"
    " UNION SELECT state_id FROM {0}.kept_states WHERE job_id IN ({1})"
)

Report = Callable[[float], None]


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


def write_backup(
    database: Database, job_ids: Sequence[int], path: Path, *, made_at: str, on_progress: Report
) -> Manifest:
    """Write jobs into a file, which appears when it is whole; `on_progress` may raise to end
    it.

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
            link.execute(CACHE)
            link.execute("ATTACH ? AS src", (str(database.folder / "dolce.sqlite"),))
            manifest = _filled(link, job_ids, made_at, on_progress)
            link.execute("DETACH src")
        _sealed(beside, manifest, on_progress)
        move_in(beside, path)
    except (sqlite3.Error, OSError) as error:
        beside.unlink(missing_ok=True)
        if isinstance(error, sqlite3.Error):
            raise in_words(error, where=str(path)) from error
        raise StorageError(
            f"{error.strerror or error}.",
            where=str(path),
            remedy="Make room on the disk, then do it again; every job is as it was.",
        ) from error
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
    return trailer(path, name or path.name)[0]


def clear_leftovers(folder: Path, suffix: str) -> None:
    """Take away what was written or put back when the application was killed; nobody else may be at work here.

    Only what is named after a backup (`suffix`) by ourselves: other files of the folder are the person's own.
    """
    for kind in (PART, OLDER):
        for beside in ("", "-wal", "-shm", "-journal"):
            for path in folder.glob(f"*{suffix}{kind}{beside}"):
                path.unlink(missing_ok=True)


def _filled(link: sqlite3.Connection, job_ids: Sequence[int], made_at: str, on_progress: Report) -> Manifest:
    ids = ", ".join(str(int(number)) for number in job_ids)
    link.execute("BEGIN")
    states = _STATES_OF.format("src", ids)
    link.execute(f"INSERT INTO states SELECT * FROM src.states WHERE id IN ({states})")
    link.execute("INSERT INTO state_taps SELECT * FROM src.state_taps WHERE state_id IN (SELECT id FROM main.states)")
    link.execute("INSERT INTO taps SELECT * FROM src.taps WHERE id IN (SELECT taps_id FROM main.state_taps)")
    link.execute(f"INSERT INTO jobs SELECT * FROM src.jobs WHERE id IN ({ids})")
    for table in OF_JOB:
        link.execute(f"INSERT INTO {table} SELECT * FROM src.{table} WHERE job_id IN ({ids})")
    link.execute("INSERT INTO takes SELECT * FROM src.takes WHERE round_id IN (SELECT id FROM main.rounds)")
    wanted = [
        row[0]
        for row in link.execute(
            "SELECT DISTINCT samples_id FROM main.takes WHERE samples_id IS NOT NULL ORDER BY samples_id"
        )
    ]
    for first in range(0, len(wanted), AT_ONCE):
        on_progress(0.7 * first / len(wanted))
        some = ", ".join(map(str, wanted[first : first + AT_ONCE]))
        link.execute(f"INSERT INTO samples SELECT * FROM src.samples WHERE id IN ({some})")
    names = tuple(row[0] for row in link.execute("SELECT name FROM main.jobs ORDER BY id"))
    takes = link.execute("SELECT count(*) FROM main.takes").fetchone()[0]
    revision = link.execute("SELECT version_num FROM main.alembic_version").fetchone()[0]
    link.execute("COMMIT")
    return Manifest(jobs=names, takes=takes, made_at=made_at, revision=revision)


def _sealed(path: Path, manifest: Manifest, on_progress: Report) -> None:
    """The trailer behind the database: what is inside as JSON, its length, and the mark of a backup."""
    for suffix in ("-wal", "-shm"):
        path.with_name(path.name + suffix).unlink(missing_ok=True)
    digest = digest_of_first(
        path, path.stat().st_size, lambda part: on_progress(0.7 + 0.3 * part), pieces=True, at_a_time=2
    )
    text = json.dumps({**asdict(manifest), "digest": digest, "pieces": True}).encode()
    with path.open("ab") as file:
        file.write(text + len(text).to_bytes(8, "big") + _MAGIC)


def trailer(path: Path, name: str) -> tuple[Manifest, int]:
    """The manifest, and how many bytes stand before the trailer."""
    end = len(_MAGIC) + 8
    try:
        whole = path.stat().st_size
        with path.open("rb") as file:
            file.seek(max(0, whole - end))
            tail = file.read(end)
            length = int.from_bytes(tail[:8], "big")
            if tail[8:] != _MAGIC or not 2 <= length <= min(_MOST_TRAILER, whole - end):
                raise FormatError(
                    "this is no backup of Dolce, or it was cut off.",
                    where=name,
                    remedy="Choose a file that Dolce has written, and copy it whole.",
                )
            file.seek(whole - end - length)
            values = json.loads(file.read(length))
        manifest = Manifest(
            jobs=tuple(map(str, values["jobs"])),
            takes=int(values["takes"]),
            made_at=str(values["made_at"]),
            revision=str(values["revision"]),
            digest=str(values["digest"]),
            pieces=values.get("pieces") is True,
        )
    except OSError as error:
        raise StorageError(f"{error.strerror or error}.", where=name, remedy="Check the file.") from error
    except (ValueError, KeyError, TypeError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(
            "what it says of itself can't be read.", where=name, remedy="Use another copy of it."
        ) from error
    if manifest.revision not in known_steps():
        raise FormatError(
            f"it was written by {written_by(manifest.revision)}.",
            where=name,
            remedy="Use that version. Nothing was changed.",
        )
    return manifest, whole - end - length


def digest_of_first(path: Path, size: int, on_progress: Report, *, pieces: bool, at_a_time: int) -> str:
    """Of the first bytes of a file: in one run, or of pieces side by side, which two cores do twice as fast."""
    if not pieces:
        return _digest_of(path, 0, size, on_progress).hex()
    found = hashlib.blake2b(digest_size=32)
    starts = range(0, size, _HASHED_PIECE)
    with ThreadPoolExecutor(max_workers=at_a_time) as both:
        parts: list[Future[bytes]] = [
            both.submit(_digest_of, path, start, min(size, start + _HASHED_PIECE), lambda _: None) for start in starts
        ]
        try:
            for start, part in zip(starts, parts, strict=True):
                found.update(part.result())
                on_progress(min(1.0, (start + _HASHED_PIECE) / size))
        except BaseException:
            both.shutdown(cancel_futures=True)
            raise
    return found.hexdigest()


def _digest_of(path: Path, start: int, end: int, on_progress: Report) -> bytes:
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
            on_progress(done / end)
    return found.digest()


def copied(path: Path, to: Path, size: int) -> None:
    """The first bytes of a file, as a file of their own."""
    with path.open("rb") as file, to.open("wb") as out:
        while size > 0:
            piece = file.read(min(_PIECE, size))
            out.write(piece)
            size -= len(piece)
