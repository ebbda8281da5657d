import json
import sqlite3
from datetime import datetime

import pytest
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import inspect

from dolce.core.room import plan_values
from dolce.services.demo_rooms import attic
from dolce.store import Database, UnitOfWork
from dolce.store import database as database_module
from dolce.store.models import Row


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
    assert numbers == [f"{k + 1:04d}" for k in range(len(numbers))]


def test_file_is_in_wal_mode_and_keeps_the_record_of_its_steps(database, tmp_path):
    with sqlite3.connect(tmp_path / "dolce.sqlite") as raw:
        assert raw.execute("PRAGMA journal_mode").fetchone() == ("wal",)
        assert raw.execute("SELECT version_num FROM alembic_version").fetchone() == ("0006",)
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


def test_rooms_of_the_first_version_become_plans(tmp_path):
    # A file as version 0001 wrote it: one pair, one seat, three spots.
    engine = database_module._engine(tmp_path / "dolce.sqlite")
    database_module.migrate(engine, to="0001")
    with engine.begin() as connection:
        run = connection.exec_driver_sql
        run("INSERT INTO jobs VALUES (4, 'Old loft', '', '', 'metres', '2026-01-01 00:00:00', '2026-01-01 00:00:00', "
            "NULL, 1, 5.1, 3.7, 2.4, 21.0, '{}', '{\"active\": \"bypass\", \"presets\": {}}', 9, NULL, NULL)")
        run("INSERT INTO speakers VALUES (1, 4, 'L', 3, 1.2, 0.6, 1.2), (2, 4, 'R', 4, 2.6, 0.6, 1.2)")
        run("INSERT INTO seats VALUES (7, 4, 'Mixer', 1.9, 1.9, 1.2)")
        run("INSERT INTO spots VALUES (1, 4, 7, 1, 1.9, 1.9, 1.2), (2, 4, 7, 2, 2.1, 1.9, 1.2), "
            "(3, 4, 7, 3, 1.7, 1.9, 1.3)")
        run("INSERT INTO rounds VALUES (9, 4, 'Untouched', NULL, '2026-01-01 00:00:00')")
        run("INSERT INTO takes VALUES (5, 9, 'L', 2, 1, '2026-01-01 00:00:00', 'rig', 48000, 0.01, 1, 'normal', 50, "
            "-6, 0, '[]', x'0000000000000000')")
    engine.dispose()
    opened = Database(tmp_path)
    with UnitOfWork(opened, write=False) as work:
        job = work.jobs.get(4)
        take = work.takes.get(5)
    assert (job.room.length_m, job.room.temperature_c, job.plan.layout) == (5.1, 21.0, "2.0")
    assert [(s.channel, s.output, s.place.x_m, s.partner) for s in job.speakers] == [("L", 3, 1.2, "R"),
                                                                                     ("R", 4, 2.6, "L")]
    assert (job.seat.id, job.seat.name, job.seat.is_main) == (7, "Mixer", True)
    assert [(s.number, s.seat_id, s.place.x_m) for s in job.spots] == [(1, 7, 1.9), (2, 7, 2.1), (3, 7, 1.7)]
    assert take.speaker_place is None
    assert set(inspect(opened.engine).get_table_names()) >= {"plan_steps"}
    assert not set(inspect(opened.engine).get_table_names()) & {"speakers", "seats", "spots"}
    opened.close()


def test_the_one_microphone_of_older_files_is_put_on_the_shelf_and_stays_in_use(tmp_path):
    engine = database_module._engine(tmp_path / "dolce.sqlite")
    database_module.migrate(engine, to="0002")
    curve = {"frequency_hz": [20, 20000], "level_db": [0, 1], "phase_deg": [0, 0]}
    old = {"sample_rate_hz": 48000, "sweep_level_dbfs": -3.0, "microphone_name": "Stand mic", "microphone_serial": "7",
           "curve": curve, "curve_file_name": "m.txt", "card_input": 2}
    plan = json.dumps(plan_values(attic()))
    with engine.begin() as connection:
        for number, rig in ((1, old), (2, old), (3, {"microphone_name": "", "curve": None})):
            connection.exec_driver_sql(
                "INSERT INTO jobs (id, name, place, notes, units, created_at, changed_at, seed, rig, processor, "
                "plan_position) VALUES (?, 'x', '', '', 'metres', '2026-01-01', '2026-01-01', 1, ?, ?, 1)",
                (number, json.dumps(rig), '{"active": "bypass", "presets": {}}'))
            connection.exec_driver_sql("INSERT INTO plan_steps (job_id, position, what, plan) VALUES (?, 1, 's', ?)",
                                       (number, plan))
    engine.dispose()
    opened = Database(tmp_path)
    with UnitOfWork(opened, write=False) as work:
        shelf = work.microphones.all()
        first, second, third = (work.jobs.get(k).rig for k in (1, 2, 3))
    opened.close()
    assert [(m.name, m.serial, m.curve_files) for m in shelf] == [("Stand mic", "7", {0: "m.txt"})]
    assert first.inputs == (2,)
    assert first.microphones[0].microphone.id == second.microphones[0].microphone.id == shelf[0].id
    assert first.curve.level_db.tolist() == [0, 1]
    assert first.ceiling_dbfs == -3                                          # what was allowed stays allowed
    assert third.microphones == ()
