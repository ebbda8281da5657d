"""The SQLite file: opened in WAL mode, brought up to date, and held by one application at a time."""

import fcntl
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.orm import Session, sessionmaker

from dolce.errors import Conflict


class Database:
    """An open data folder.

    Parameters
    ----------
    folder : Path
        Made when missing. Holds `dolce.sqlite` and the lock.

    Raises
    ------
    Conflict
        If another running application has the folder open.
    """

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._lock = (folder / "lock").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._lock.close()
            raise Conflict("Dolce is already running with this data folder.", where=str(folder),
                           remedy="Use the window that is open, or stop that one first.") from None
        self.engine = _engine(folder / "dolce.sqlite")
        migrate(self.engine)
        self.session = sessionmaker(self.engine, expire_on_commit=False)

    def new_session(self) -> Session:
        return self.session()

    def close(self) -> None:
        """Close all connections and free the folder."""
        self.engine.dispose()
        self._lock.close()


def _engine(path: Path) -> Engine:
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 15})

    @event.listens_for(engine, "connect")
    def _prepare(connection, _record) -> None:
        # Alembic and we speak BEGIN ourselves: the driver's own rules would commit in the middle of a migration.
        connection.isolation_level = None
        for pragma in ("journal_mode=WAL", "synchronous=NORMAL", "foreign_keys=ON"):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _begin(connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("write") else "BEGIN")

    return engine


def migrate(engine: Engine, *, to: str = "head") -> None:
    """Bring the tables up to date; each step runs in one transaction with the record that it ran."""
    config = Config()
    config.set_main_option("script_location", "dolce.store:migrations")
    with engine.begin() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, to)
