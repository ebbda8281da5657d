"""The data folder: its user's own, held by one application, and never taken for something that it is not."""

import os
import sqlite3
from contextlib import closing
from pathlib import Path

from filelock import FileLock, Timeout

from dolce.errors import Conflict, StorageError
from dolce.store.durable import write_whole

DATABASE, LOCK, MARK = "dolce.sqlite", "lock", "data-folder.txt"
_HEADER = b"SQLite format 3\x00"
_MARK_TEXT = "Dolce keeps its jobs in this folder, in dolce.sqlite. Back up the folder as a whole.\n"


class DataFolder:
    """A folder that is locked while it is open.

    Parameters
    ----------
    path : Path
        Made when missing, for its user alone.

    Raises
    ------
    Conflict
        If another running application has it open.
    StorageError
        If it can't be made or written, or its database is missing, empty, or none.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        _make_own(path)
        try:
            os.close(os.open(path / LOCK, os.O_CREAT | os.O_WRONLY, 0o600))
            os.chmod(path / LOCK, 0o600)
            self._lock = FileLock(path / LOCK, mode=0o600, thread_local=False)
            self._lock.acquire(timeout=0)
        except Timeout:
            raise Conflict(
                "Dolce is already running with this data folder.",
                where=str(path),
                remedy="Use the window that is open, or stop that one first.",
            ) from None
        except OSError as error:
            raise _unusable(path, error) from error
        try:
            self.is_new = not self._there()
            if self.is_new:
                # Made here, so that nobody else may read it, nor what SQLite puts beside it.
                os.close(os.open(self.database, os.O_CREAT | os.O_WRONLY, 0o600))
            os.chmod(self.database, 0o600)
        except OSError as error:
            self._lock.release()
            raise _unusable(path, error) from error
        except StorageError:
            self._lock.release()
            raise

    @property
    def database(self) -> Path:
        return self.path / DATABASE

    def revision(self) -> str | None:
        """Which migration the database has reached, read without touching the file; None where nothing is in it yet.

        Raises
        ------
        sqlite3.Error
            If it can't be read.
        """
        if self.is_new:
            return None
        # What was written last may still stand in the log beside the file; without one the file is read as it lies.
        log = self.path / f"{DATABASE}-wal"
        how = "mode=ro" if log.exists() and log.stat().st_size else "mode=ro&immutable=1"
        with closing(sqlite3.connect(f"{self.database.resolve().as_uri()}?{how}", uri=True)) as connection:
            if not connection.execute("SELECT 1 FROM sqlite_master").fetchone() and not self._marked():
                return None  # a start that was ended before it wrote anything
            found = connection.execute("SELECT version_num FROM alembic_version").fetchone()
        return found[0] if found else None

    def mark(self) -> None:
        """From now on a database is expected here."""
        mark = self.path / MARK
        if not mark.exists():
            write_whole(mark, _MARK_TEXT.encode())

    def give_up(self) -> None:
        """Undo the making of a database that nothing could be written into."""
        if self.is_new and not self._marked():
            self.database.unlink(missing_ok=True)

    def close(self) -> None:
        self._lock.release()

    def _marked(self) -> bool:
        return (self.path / MARK).exists()

    def _there(self) -> bool:
        """Whether there is a database; StorageError where one should be and isn't, or what is there is none."""
        if not self.database.exists():
            if self._marked():
                raise StorageError(
                    f"{DATABASE} is missing, though jobs were kept here.",
                    where=str(self.path),
                    remedy=f"Put it back from a backup; to begin with nothing, delete {MARK} as well.",
                )
            return False
        with self.database.open("rb") as file:
            head = file.read(len(_HEADER))
        if not head and not self._marked():
            return False  # a start that was ended before it wrote anything
        if not head:
            raise StorageError(
                f"{DATABASE} is empty.",
                where=str(self.path),
                remedy=f"Put it back from a backup; to begin with nothing, delete it and {MARK}.",
            )
        if head != _HEADER:
            raise StorageError(
                f"{DATABASE} is not a database, or its beginning was overwritten. It was not touched.",
                where=str(self.path),
                remedy="Copy the folder away, then restore a backup.",
            )
        return True


def is_untouched(path: Path) -> bool:
    """Whether no start has ever come to its end in this folder: neither a database with something in it, nor a mark."""
    database = path / DATABASE
    return not (path / MARK).exists() and not (database.exists() and database.stat().st_size)


def _make_own(path: Path) -> None:
    """The folder, for its user alone; a folder with other things in it keeps its rights."""
    try:
        path.mkdir(parents=True, exist_ok=True, mode=0o700)
        ours = {DATABASE, LOCK, MARK, f"{DATABASE}-wal", f"{DATABASE}-shm"}
        if all(entry.name in ours for entry in path.iterdir()):
            os.chmod(path, 0o700)
    except OSError as error:
        raise _unusable(path, error) from error


def _unusable(path: Path, error: OSError) -> StorageError:
    return StorageError(
        f"the data folder can't be used: {error.strerror or error}.",
        where=str(path),
        remedy="Check that there is room and that you may write there, or choose another with --data.",
    )
