"""The SQLite file: opened in WAL mode and brought up to date."""

import sqlite3
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from alembic.util import CommandError
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session, sessionmaker

from dolce.errors import StorageError
from dolce.store.at_hand import TextsAtHand
from dolce.store.folder import DATABASE, DataFolder
from dolce.store.repositories.states import StatesAtHand
from dolce.store.repositories.takes import TakesAtHand
from dolce.store.trouble import in_words

BUSY_S = 15.0
_MIGRATING_AGAIN = 2              # on a machine that is so busy that waiting for a lock ran out of turns
_STALE = {sqlite3.SQLITE_PROTOCOL, sqlite3.SQLITE_BUSY_SNAPSHOT}    # a lock missed, not one held by somebody


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
        If the database is missing where one was, damaged, made by a newer version (it is not touched then), or if the
        disk is full.
    """

    def __init__(self, folder: Path, *, busy_s: float = BUSY_S) -> None:
        self._folder = DataFolder(folder)
        self.folder, self.is_new = folder, self._folder.is_new
        try:
            _require_known(self._folder)
            self.engine = engine_of(self._folder.database, busy_s)
            self._bring_up_to_date()
            self._folder.mark()
        except (DBAPIError, sqlite3.Error) as error:
            self._give_up()
            raise in_words(error, where=str(folder)) from error
        except OSError as error:
            self._give_up()
            raise StorageError(f"{error.strerror or error}.", where=str(folder),
                               remedy="Make room on the disk, then start again.") from error
        except StorageError:
            self._give_up()
            raise
        self.states_at_hand = StatesAtHand(64)
        self.takes_at_hand = TakesAtHand(12)
        self.texts_at_hand = TextsAtHand(128)
        self.session = sessionmaker(self.engine, expire_on_commit=False)

    def _bring_up_to_date(self) -> None:
        """Migrate, and again where SQLite gave up waiting for a lock: a step and its record are one transaction."""
        for _ in range(_MIGRATING_AGAIN):
            try:
                return migrate(self.engine)
            except DBAPIError as error:
                code = getattr(error.orig, "sqlite_errorcode", None)
                # A database that we made just now is known to nobody else: what holds it is a lock left behind.
                if code not in _STALE and not (self.is_new and code == sqlite3.SQLITE_BUSY):
                    raise
                self.engine.dispose()
        return migrate(self.engine)

    def new_session(self) -> Session:
        return self.session()

    def faults(self) -> list[str]:
        """What SQLite finds wrong with the file itself; empty for nothing."""
        with self.engine.connect() as connection:
            found = [row[0] for row in connection.exec_driver_sql("PRAGMA quick_check")]
        return [] if found == ["ok"] else found

    def close(self) -> None:
        """Close all connections and free the folder."""
        self.engine.dispose()
        self._folder.close()

    def _give_up(self) -> None:
        if hasattr(self, "engine"):
            self.engine.dispose()
        self._folder.give_up()
        self._folder.close()


def _require_known(folder: DataFolder) -> None:
    """StorageError where a newer version has written the database; it is only looked at."""
    revision = folder.revision()
    if revision is None:
        return
    try:
        ScriptDirectory.from_config(config_of_steps()).get_revision(revision)
    except CommandError:
        raise StorageError(f"{DATABASE} was written by a newer version of Dolce (step {revision}). It was not touched.",
                           where=str(folder.path),
                           remedy="Use that version, or choose another folder with --data.") from None


def engine_of(path: Path, busy_s: float = BUSY_S) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": busy_s})

    @event.listens_for(engine, "connect")
    def _prepare(connection, _record) -> None:
        # Alembic and we speak BEGIN ourselves: the driver's own rules would commit in the middle of a migration.
        connection.isolation_level = None
        # FULL: what was kept is on the disk when we say so, whatever happens to the power then.
        # Large pages, for new folders: recordings are long. Those that are there keep theirs.
        for pragma in ("page_size=16384", "journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _begin(connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("write") else "BEGIN")

    return engine


def config_of_steps() -> Config:
    config = Config()
    config.set_main_option("script_location", "dolce.store:migrations")
    return config


def migrate(engine: Engine, *, to: str = "head") -> None:
    """Bring the tables up to date; each step runs in one transaction with the record that it ran."""
    config = config_of_steps()
    with engine.connect().execution_options(write=True) as connection, connection.begin():
        config.attributes["connection"] = connection
        command.upgrade(config, to)
