"""Jobs of a backup put beside those that are there: looked at first, then kept in one step under numbers that are free.

A backup comes from anywhere. Nothing in it is run, every row is held against the types that the application reads it
as, and numbers of other rows count only where these rows are in the backup.
"""

import re
import sqlite3
import threading
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing, suppress
from pathlib import Path
from urllib.parse import parse_qsl, urlencode

from sqlalchemy.exc import DBAPIError

from dolce.errors import FormatError, StorageError
from dolce.store.backup import AT_ONCE, CACHE, OF_JOB, OLDER, Report, copied, digest_of_first, trailer
from dolce.store.database import Database, engine_of
from dolce.store.steps import migrate, newest_step
from dolce.store.strange_rows import require_own_rows, require_plain_tables
from dolce.store.trouble import in_words

_LARGE = 1 << 26  # bytes of a backup, from which on the log of the database is taken up afterwards
_NUMBERED = ("jobs", "rounds", "samples")  # what other rows name by its number
_OTHER_ROWS = {"id": "", "job_id": "jobs", "round_id": "rounds", "samples_id": "samples", "follows_id": "jobs"}
_SHARED = ("states", "taps", "state_taps")  # kept under the hash of what they are
# Numbers of rounds that stand inside values.
_ROUNDS_IN = {
    "alignment_steps": ("alignment", ("$.round_id",)),
    "alignment_versions": ("alignment", ("$.round_id",)),
    "correction_steps": ("correction", ("$.round_id", "$.alignment.round_id")),
    "correction_versions": ("correction", ("$.round_id", "$.alignment.round_id")),
}


def restore_backup(
    database: Database, path: Path, *, renamed: Callable[[str, set[str]], str], on_progress: Report
) -> list[int]:
    """Put the jobs of a backup beside those that are there, in one step; numbers of the new ones.

    Parameters
    ----------
    renamed : what a job is called, given its name and those that are taken

    Raises
    ------
    FormatError
        Where the file is no backup, was cut off or changed, comes of a newer version, or holds anything that the
        application does not write; nothing is changed then.
    StorageError
        Where the disk is full.
    """
    manifest, size = trailer(path, path.name)
    older = path.with_name(path.name + OLDER)
    source = path
    try:
        # Looked at while its rows are put in, which are not kept before its digest is known to be right.
        with ThreadPoolExecutor(max_workers=1) as beside:
            digest = beside.submit(digest_of_first, path, size, lambda _: None, pieces=manifest.pieces, at_a_time=1)

            def whole() -> None:
                if digest.result() != manifest.digest:
                    raise FormatError(
                        "its contents are no longer those that were written.",
                        where=path.name,
                        remedy="Use another copy of it. Nothing was changed.",
                    )

            try:
                require_plain_tables(path, name=path.name)
                if manifest.revision != newest_step():
                    whole()
                    copied(path, older, size)
                    engine = engine_of(older)
                    migrate(engine)
                    engine.dispose()
                    source = older
                require_own_rows(source, name=path.name)
                jobs = _restored(database, source, renamed, on_progress, whole=whole, large=size > _LARGE)
            except (sqlite3.Error, DBAPIError, FormatError) as error:
                whole()  # a file that was changed may well be anything
                if isinstance(error, DBAPIError | sqlite3.IntegrityError):
                    raise FormatError(
                        "this is no backup that Dolce has written: rows name others that are not in it.",
                        where=path.name,
                        remedy="Use another copy of it. Nothing was changed.",
                    ) from error
                raise
        if size > _LARGE:
            threading.Thread(target=_taken_up, args=(database,), daemon=True, name="log of the database").start()
        return jobs
    except sqlite3.Error as error:
        raise in_words(error, where=path.name) from error
    except OSError as error:
        raise StorageError(
            f"{error.strerror or error}.",
            where=str(path),
            remedy="Make room on the disk, then do it again; every job is as it was.",
        ) from error
    finally:
        for leftover in (older, older.with_name(older.name + "-wal"), older.with_name(older.name + "-shm")):
            leftover.unlink(missing_ok=True)


def _taken_up(database: Database) -> None:
    """Bring what stands in the log of the database into the database itself; nobody waits for it."""
    with suppress(sqlite3.Error), closing(sqlite3.connect(database.folder / "dolce.sqlite", timeout=1)) as link:
        link.execute("PRAGMA wal_checkpoint(PASSIVE)")


def _restored(
    database: Database,
    source: Path,
    renamed: Callable[[str, set[str]], str],
    on_progress: Report,
    *,
    whole: Callable[[], None],
    large: bool,
) -> list[int]:
    """All rows of a backup under numbers that are free, in one transaction, which `whole` may end before it is kept."""
    with closing(
        sqlite3.connect(
            f"{(database.folder / 'dolce.sqlite').resolve().as_uri()}?mode=rw",
            isolation_level=None,
            timeout=15,
            uri=True,
        )
    ) as link:
        for pragma in ("synchronous=FULL", "foreign_keys=ON", "temp_store=MEMORY", "trusted_schema=OFF"):
            link.execute(f"PRAGMA {pragma}")
        link.execute(CACHE)
        if large:
            link.execute("PRAGMA wal_autocheckpoint=0")
        # Read as it lies: nothing is ever written into a backup.
        link.execute("ATTACH ? AS src", (f"{source.resolve().as_uri()}?mode=ro&immutable=1",))
        link.execute("BEGIN IMMEDIATE")
        try:
            jobs = _inserted(link, renamed, on_progress)
            whole()
            link.execute("COMMIT")
        except BaseException:
            link.execute("ROLLBACK")
            raise
        link.execute("DETACH src")
    return jobs


def _inserted(link: sqlite3.Connection, renamed: Callable[[str, set[str]], str], on_progress: Report) -> list[int]:
    first = {
        table: link.execute(f"SELECT coalesce(max(id), 0) FROM main.{table}").fetchone()[0]
        for table in ("jobs", "samples", "takes", *OF_JOB)
        if table != "reports"
    }
    for table in _NUMBERED:
        link.execute(f"CREATE TEMP TABLE new_{table} (old INTEGER PRIMARY KEY, new INTEGER NOT NULL)")
        link.execute(
            f"INSERT INTO new_{table} SELECT id, row_number() OVER (ORDER BY id) + ? FROM src.{table}", (first[table],)
        )
    _require_present(link)
    for table in _SHARED:
        link.execute(f"INSERT OR IGNORE INTO main.{table} SELECT * FROM src.{table}")
    samples = [row[0] for row in link.execute("SELECT id FROM src.samples ORDER BY id")]
    chosen, values = _row_of(link, "samples", first)
    for k in range(0, len(samples), AT_ONCE):
        on_progress(0.95 * k / len(samples))
        some = ", ".join(map(str, samples[k : k + AT_ONCE]))
        link.execute(
            f"INSERT INTO main.samples ({chosen}) SELECT {values} FROM src.samples AS row WHERE id IN ({some})"
        )
    on_progress(0.95)
    for table in ("jobs", *OF_JOB, "takes"):
        chosen, values = _row_of(link, table, first)
        link.execute(f"INSERT INTO main.{table} ({chosen}) SELECT {values} FROM src.{table} AS row")
    for table, (column, paths) in _ROUNDS_IN.items():
        for path in paths:
            link.execute(
                f"UPDATE main.{table} SET {column} = json_set({column}, ?, "
                f"(SELECT new FROM new_rounds WHERE old = json_extract({column}, ?))) "
                f"WHERE id > ? AND json_extract({column}, ?) IS NOT NULL",
                (path, path, first[table], path),
            )
    rounds = {str(old): str(new) for old, new in link.execute("SELECT old, new FROM new_rounds")}
    for number, address in link.execute(
        "SELECT id, address FROM main.selections WHERE id > ?", (first["selections"],)
    ).fetchall():
        link.execute("UPDATE main.selections SET address = ? WHERE id = ?", (_moved(address, rounds), number))
    new = link.execute("SELECT id, name FROM main.jobs WHERE id > ? ORDER BY id", (first["jobs"],)).fetchall()
    taken = {
        row[0]
        for row in link.execute("SELECT name FROM main.jobs WHERE id <= ? AND deleted_at IS NULL", (first["jobs"],))
    }
    for number, name in new:
        wanted = renamed(name, taken)
        taken.add(wanted)
        link.execute("UPDATE main.jobs SET name = ?, deleted_at = NULL WHERE id = ?", (wanted, number))
    # What sounded when the backup was written does not sound now.
    link.execute("UPDATE main.passes SET state = 'interrupted' WHERE id > ? AND state = 'running'", (first["passes"],))
    return [number for number, _ in new]


def _require_present(link: sqlite3.Connection) -> None:
    """IntegrityError where a row of the backup names another one that is not in it, or a round of another job's.

    Only the job whose room another one follows may have stayed where it was.
    """
    named = [(table, "job_id", "jobs") for table in OF_JOB]
    named += [("takes", "round_id", "rounds"), ("takes", "samples_id", "samples")]
    strangers = [
        f"SELECT 1 FROM src.{table} WHERE {column} NOT IN (SELECT old FROM new_{other})"
        for table, column, other in named
    ]
    strangers.append(
        "SELECT 1 FROM src.jobs WHERE NOT EXISTS (SELECT 1 FROM src.rounds "
        "WHERE rounds.id = jobs.round_id AND rounds.job_id = jobs.id)"
    )
    for stranger in strangers:
        if link.execute(f"{stranger} LIMIT 1").fetchone():
            raise sqlite3.IntegrityError("a row names another one that is not there")


def _row_of(link: sqlite3.Connection, table: str, first: Mapping[str, int]) -> tuple[str, str]:
    """Columns of a table, and what each gets from a `row` of the backup: numbers in a row from the first that is free,
    and those of other rows as these have them now; nothing where these are not in the backup."""

    def value(column: str) -> str:
        other = _OTHER_ROWS.get(column)
        if column == "id" and table in _NUMBERED:
            other = table
        if other is None:
            return f'row."{column}"'
        if not other:
            return row_number
        return f'(SELECT new FROM new_{other} WHERE old = row."{column}")'

    row_number = f"row_number() OVER (ORDER BY row.id) + {first.get(table, 0)}"
    columns = [row[1] for row in link.execute(f"PRAGMA main.table_info({table})")]
    return ", ".join(f'"{column}"' for column in columns), ", ".join(map(value, columns))


def _moved(address: str, rounds: Mapping[str, str]) -> str:
    """A kept selection's address, its rounds under their new numbers.

    Curves of other jobs, which need not be here, and of rounds that were not put back leave the picture.
    """
    moved = []
    for key, value in parse_qsl(address, keep_blank_values=True):
        if key in ("round", "vs_round") and value.isdigit():
            moved.append((key, rounds.get(value, "")))
        elif key == "with":
            named = re.search(r"\bround-(\d+)", value)
            if not value.startswith("job-") and (named is None or named[1] in rounds):
                moved.append((key, value if named is None else value.replace(named[0], f"round-{rounds[named[1]]}")))
        else:
            moved.append((key, value))
    return urlencode(moved)
