import sqlite3
from contextlib import closing
from datetime import datetime

import pytest
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import inspect

from dolce.errors import StorageError
from dolce.store import Database, UnitOfWork
from dolce.store.models import Row
from dolce.store.steps import known_steps, newest_step


@pytest.fixture
def database(tmp_path):
    opened = Database(tmp_path)
    yield opened
    opened.close()


def test_migrated_tables_are_those_of_the_models(database):
    found = inspect(database.engine)
    for name, table in Row.metadata.tables.items():
        columns = {c["name"]: c["nullable"] for c in found.get_columns(name)}
        assert columns == {c.name: bool(c.nullable) for c in table.columns}


def test_steps_are_numbered_in_one_row():
    config = Config()
    config.set_main_option("script_location", "dolce.store:migrations")
    script = ScriptDirectory.from_config(config)
    numbers = [step.revision for step in script.walk_revisions()][::-1]
    assert (*numbers,) == known_steps()  # which are read off the names of the files
    assert newest_step() == script.get_current_head()
    assert numbers == [f"{k:04d}" for k in range(17, 17 + len(numbers))]  # those before were never released


def test_file_is_in_wal_mode_and_keeps_the_record_of_its_steps(database, tmp_path):
    with sqlite3.connect(tmp_path / "dolce.sqlite") as raw:
        assert raw.execute("PRAGMA journal_mode").fetchone() == ("wal",)
        assert raw.execute("SELECT version_num FROM alembic_version").fetchone() == (newest_step(),)
    raw.close()


def test_an_error_keeps_nothing(database):
    def fails():
        with UnitOfWork(database, write=True) as work:
            work.logbook.add(1, "half", at=datetime(2026, 1, 1))
            raise RuntimeError("half-way")

    with pytest.raises(RuntimeError, match="half-way"):
        fails()
    with UnitOfWork(database, write=False) as work:
        assert work.logbook.all(1) == []


@pytest.mark.parametrize(("step", "message"), [("0016", "a version before 1.0"), ("9999", "a newer version")])
def test_folders_of_versions_that_are_not_known_are_refused_in_one_line_and_not_touched(tmp_path, step, message):
    Database(tmp_path).close()
    file = tmp_path / "dolce.sqlite"
    with closing(sqlite3.connect(file, isolation_level=None)) as raw:
        raw.execute("UPDATE alembic_version SET version_num = ?", (step,))
        raw.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    before = file.read_bytes()
    with pytest.raises(StorageError, match=rf"written by {message} of Dolce \(step {step}\)\. It was not touched"):
        Database(tmp_path)
    assert file.read_bytes() == before
