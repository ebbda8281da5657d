"""The SQLite file: opened in WAL mode and brought up to date."""

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session, sessionmaker

from dolce.errors import StorageError
from dolce.store.encoding import TextCache
from dolce.store.folder import DATABASE, DataFolder
from dolce.store.repositories.states import StateCache
from dolce.store.repositories.takes import TakeCache
from dolce.store.steps import known_steps, migrate, newest_step, written_by
from dolce.store.trouble import in_words

BUSY_S = 15.0
_INCREMENTAL, _PAGES_AT_ONCE = 2, 512  # of auto_vacuum; and how much is moved while others wait


class Database:
    """An open data folder.

    Parameters
    ----------
    folder : Path
        Made when missing. Holds `dolce.sqlite` and the lock.
    busy_s : float
        How long a change waits for another one to end.

    Attributes
    ----------
    folder : Path
    is_new : bool
        Whether the database was made just now.

    Raises
    ------
    Conflict
        If another running application has the folder open.
    StorageError
        If the database is missing where one was, damaged, made by a newer version or before 1.0 (it is not touched
        then), or if the disk is full.
    """

    def __init__(self, folder: Path, *, busy_s: float = BUSY_S) -> None:
        self._folder = DataFolder(folder)
        self.folder, self.is_new = folder, self._folder.is_new
        try:
            reached = self._folder.revision()
            _require_known(reached, folder)
            self.engine = engine_of(self._folder.database, busy_s)
            if reached != newest_step():
                migrate(self.engine)
            self._folder.mark()
        except (DBAPIError, sqlite3.Error) as error:
            self._give_up()
            raise in_words(error, where=str(folder)) from error
        except OSError as error:
            self._give_up()
            raise StorageError(
                f"{error.strerror or error}.", where=str(folder), remedy="Make room on the disk, then start again."
            ) from error
        except StorageError:
            self._give_up()
            raise
        self.state_cache = StateCache(64)
        self.take_cache = TakeCache(12)
        self.text_cache = TextCache(128)
        self.session = sessionmaker(self.engine, expire_on_commit=False)

    def new_session(self) -> Session:
        return self.session()

    def faults(self) -> list[str]:
        """What SQLite finds wrong with the file itself; empty for nothing."""
        with self.engine.connect() as connection:
            found = [row[0] for row in connection.exec_driver_sql("PRAGMA quick_check")]
        return [] if found == ["ok"] else found

    def space(self) -> tuple[int, int]:
        """Bytes of the database, and how many of them hold nothing."""
        with self.engine.connect() as connection:
            page, pages, free = (
                int(connection.exec_driver_sql(f"PRAGMA {what}").scalar_one())
                for what in ("page_size", "page_count", "freelist_count")
            )
        return page * pages, page * free

    def compact(self, on_progress: Callable[[float], None]) -> None:
        """Give back what holds nothing; `on_progress` hears how far it is, and may raise to end it.

        Page by page, so that nobody waits for it; databases of older versions are written anew in one go, once.

        Raises
        ------
        StorageError
            Where the disk is full, or something else holds the database.

        References
        ----------
        SQLite, "PRAGMA auto_vacuum" and "PRAGMA incremental_vacuum".
        """
        try:
            with closing(sqlite3.connect(self._folder.database, isolation_level=None, timeout=BUSY_S)) as link:
                if link.execute("PRAGMA auto_vacuum").fetchone()[0] != _INCREMENTAL:
                    on_progress(0.0)
                    link.execute(f"PRAGMA auto_vacuum={_INCREMENTAL}")
                    link.execute("VACUUM")
                first = free = link.execute("PRAGMA freelist_count").fetchone()[0]
                while free:
                    on_progress(1 - free / first)
                    link.execute(f"PRAGMA incremental_vacuum({_PAGES_AT_ONCE})").fetchall()
                    now = link.execute("PRAGMA freelist_count").fetchone()[0]
                    if now >= free:  # more was freed meanwhile than given back
                        break
                    free = now
                link.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        except sqlite3.Error as error:
            raise in_words(error, where=str(self.folder)) from error

    def close(self) -> None:
        """Close all connections and free the folder."""
        self.engine.dispose()
        self._folder.close()

    def _give_up(self) -> None:
        if hasattr(self, "engine"):
            self.engine.dispose()
        self._folder.give_up()
        self._folder.close()


def _require_known(reached: str | None, folder: Path) -> None:
    """StorageError where a newer version has written the database, or one that was never released."""
    if reached is not None and reached not in known_steps():
        raise StorageError(
            f"{DATABASE} was written by {written_by(reached)}. It was not touched.",
            where=str(folder),
            remedy="Use that version, or choose another folder with --data.",
        )


def engine_of(path: Path, busy_s: float = BUSY_S) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": busy_s})

    @event.listens_for(engine, "connect")
    def _prepare(connection: Any, _record: object) -> None:
        # Alembic and we speak BEGIN ourselves: the driver's own rules would commit in the middle of a migration.
        connection.isolation_level = None
        # FULL: what was kept is on the disk when we say so, whatever happens to the power then.
        # For new files alone, since asking takes a lock: large pages, because recordings are long, and such that space
        # can be given back page by page.
        first = () if path.exists() and path.stat().st_size else ("page_size=16384", f"auto_vacuum={_INCREMENTAL}")
        for pragma in (*first, "journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _begin(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("write") else "BEGIN")

    return engine
