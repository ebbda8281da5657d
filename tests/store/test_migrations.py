import json
import sqlite3
from base64 import b64encode
from datetime import datetime

import numpy as np
import pytest
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import inspect

from dolce.core.processor import ChannelSettings
from dolce.core.response import ANALYSIS_GRID_HZ, Caution
from dolce.core.room import plan_values
from dolce.services.sample.demo_rooms import attic
from dolce.store import Database, UnitOfWork
from dolce.store import database as database_module
from dolce.store.models import Row
from dolce.store.steps import known_steps, migrate, newest_step


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
    assert numbers == [f"{k + 1:04d}" for k in range(len(numbers))]


def test_file_is_in_wal_mode_and_keeps_the_record_of_its_steps(database, tmp_path):
    with sqlite3.connect(tmp_path / "dolce.sqlite") as raw:
        assert raw.execute("PRAGMA journal_mode").fetchone() == ("wal",)
        assert raw.execute("SELECT version_num FROM alembic_version").fetchone() == ("0016",)
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
    engine = database_module.engine_of(tmp_path / "dolce.sqlite")
    migrate(engine, to="0001")
    with engine.begin() as connection:
        run = connection.exec_driver_sql
        run(
            "INSERT INTO jobs VALUES (4, 'Old loft', '', '', 'metres', '2026-01-01 00:00:00', '2026-01-01 00:00:00', "
            'NULL, 1, 5.1, 3.7, 2.4, 21.0, \'{}\', \'{"active": "bypass", "presets": {}}\', 9, NULL, NULL)'
        )
        run("INSERT INTO speakers VALUES (1, 4, 'L', 3, 1.2, 0.6, 1.2), (2, 4, 'R', 4, 2.6, 0.6, 1.2)")
        run("INSERT INTO seats VALUES (7, 4, 'Mixer', 1.9, 1.9, 1.2)")
        run(
            "INSERT INTO spots VALUES (1, 4, 7, 1, 1.9, 1.9, 1.2), (2, 4, 7, 2, 2.1, 1.9, 1.2), "
            "(3, 4, 7, 3, 1.7, 1.9, 1.3)"
        )
        run("INSERT INTO rounds VALUES (9, 4, 'Untouched', NULL, '2026-01-01 00:00:00')")
        run(
            "INSERT INTO takes VALUES (5, 9, 'L', 2, 1, '2026-01-01 00:00:00', 'rig', 48000, 0.01, 1, 'normal', 50, "
            "-6, 0, '[]', x'0000000000000000')"
        )
    engine.dispose()
    opened = Database(tmp_path)
    with UnitOfWork(opened, write=False) as work:
        job = work.jobs.get(4)
        take = work.takes.get(5)
    assert (job.room.length_m, job.room.temperature_c, job.plan.layout) == (5.1, 21.0, "2.0")
    assert [(s.channel, s.output, s.place.x_m, s.partner) for s in job.speakers] == [
        ("L", 3, 1.2, "R"),
        ("R", 4, 2.6, "L"),
    ]
    assert (job.seat.id, job.seat.name, job.seat.is_main) == (7, "Mixer", True)
    assert [(s.number, s.seat_id, s.place.x_m) for s in job.spots] == [(1, 7, 1.9), (2, 7, 2.1), (3, 7, 1.7)]
    assert take.speaker_place is None
    assert set(inspect(opened.engine).get_table_names()) >= {"plan_steps"}
    assert not set(inspect(opened.engine).get_table_names()) & {"speakers", "seats", "spots"}
    opened.close()


def test_the_one_microphone_of_older_files_is_put_on_the_shelf_and_stays_in_use(tmp_path):
    engine = database_module.engine_of(tmp_path / "dolce.sqlite")
    migrate(engine, to="0002")
    curve = {"frequency_hz": [20, 20000], "level_db": [0, 1], "phase_deg": [0, 0]}
    old = {
        "sample_rate_hz": 48000,
        "sweep_level_dbfs": -3.0,
        "microphone_name": "Stand mic",
        "microphone_serial": "7",
        "curve": curve,
        "curve_file_name": "m.txt",
        "card_input": 2,
    }
    plan = json.dumps(plan_values(attic()))
    with engine.begin() as connection:
        for number, rig in ((1, old), (2, old), (3, {"microphone_name": "", "curve": None})):
            connection.exec_driver_sql(
                "INSERT INTO jobs (id, name, place, notes, units, created_at, changed_at, seed, rig, processor, "
                "plan_position) VALUES (?, 'x', '', '', 'metres', '2026-01-01', '2026-01-01', 1, ?, ?, 1)",
                (number, json.dumps(rig), '{"active": "bypass", "presets": {}}'),
            )
            connection.exec_driver_sql(
                "INSERT INTO plan_steps (job_id, position, what, plan) VALUES (?, 1, 's', ?)", (number, plan)
            )
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
    assert first.levels.ceiling_dbfs == -3  # what was allowed stays allowed
    assert third.microphones == ()


def test_takes_alignment_and_correction_of_older_files_are_all_there(tmp_path):
    # A file as version 0003 wrote it: two rounds, two takes with samples, chosen trims, bands with one undone.
    engine = database_module.engine_of(tmp_path / "dolce.sqlite")
    migrate(engine, to="0003")
    plan = plan_values(attic())
    bypass = json.dumps({"active": "bypass", "presets": {}})
    shape = {
        "target": {"bass_lift_db": 2, "bass_cutoff_hz": 80, "tilt_db_per_octave": 0, "tilt_from_hz": 1000},
        "limits": {
            "from_hz": 30,
            "to_hz": 400,
            "max_boost_db": 3,
            "max_cut_db": 12,
            "min_q": 0.7,
            "max_q": 10,
            "bands": 8,
        },
        "anchor": "band",
        "anchor_band_hz": [200, 2000],
        "anchor_level_db": 0,
        "linked": False,
        "bands": {
            "L": [
                {"filter": {"frequency_hz": 60, "gain_db": -3, "q": 2}, "on": True},
                {"filter": {"frequency_hz": 90, "gain_db": -2, "q": 2}, "on": False},
            ]
        },
    }
    levels = np.linspace(-9, 3, ANALYSIS_GRID_HZ.size)
    with engine.begin() as connection:
        run = connection.exec_driver_sql
        run(
            "INSERT INTO jobs (id, name, place, notes, units, created_at, changed_at, seed, rig, processor, round_id, "
            "align_wish, shape_position, plan_position) VALUES (1, 'Old loft', '', '', 'metres', '2026-01-01', "
            "'2026-01-01', 1, '{}', ?, 2, ?, 1, 1)",
            (bypass, json.dumps({"L": {"trim_db": -1.5, "delay_s": 0.001, "polarity": "inverted"}})),
        )
        run("INSERT INTO plan_steps (job_id, position, what, plan) VALUES (1, 1, 'start', ?)", (json.dumps(plan),))
        for number, name, state in ((1, "Untouched", bypass), (2, "Later", None)):
            run(
                "INSERT INTO rounds (id, job_id, name, state, created_at) VALUES (?, 1, ?, ?, '2026-01-01')",
                (number, name, state),
            )
        for number, spot in ((1, 1), (2, 4)):
            run(
                "INSERT INTO takes (id, round_id, channel, spot_number, attempt, taken_at, source, sample_rate_hz, "
                "arrival_s, arrival_known, polarity, signal_to_noise_db, peak_dbfs, clipped_samples, warnings, "
                "level_db) "
                "VALUES (?, 1, 'L', ?, 1, '2026-01-01', 'rig', 48000, 0.01, 1, 'normal', 50, -6, 0, "
                "'[\"Polarity not sure.\"]', ?)",
                (number, spot, levels.tobytes()),
            )
            run(
                "INSERT INTO take_samples VALUES (?, ?, -0.1, ?, 'x.flac', '{}')",
                (number, np.ones(8, dtype="<f4").tobytes(), b"raw%d" % number),
            )
        for position, bands in ((1, shape["bands"]), (2, {})):
            run(
                "INSERT INTO shape_steps (job_id, position, what, shape) VALUES (1, ?, 'step', ?)",
                (position, json.dumps({**shape, "bands": bands})),
            )
    engine.dispose()
    opened = Database(tmp_path)
    with UnitOfWork(opened, write=False) as work:
        takes = {take.spot_id: take for take in work.takes.latest(1)}
        recordings = {spot: work.takes.recording(take.id)[0] for spot, take in takes.items()}
        alignment, correction = work.alignments.current(1), work.corrections.current(1)
        undo, redo = work.corrections.neighbours(1)
        seats = {seat.id: seat.weight for seat in work.jobs.get(1).plan.seats}
    opened.close()
    assert recordings == {1: b"raw1", 4: b"raw2"}
    assert not any(take.damaged for take in takes.values())
    assert takes[4].level_db.tolist() == levels.tolist()
    assert takes[4].cautions == (Caution(kind="said", text="Polarity not sure."),)
    assert alignment.round_id == correction.round_id == 1  # the latest with takes that was made while bypassed
    assert alignment.settings("L") == ChannelSettings(trim_db=-1.5, delay_s=0.001, polarity="inverted")
    assert correction.stands_on(alignment)
    assert correction.seat_weighting.weights == seats
    assert [(band.id, band.on, band.filter.frequency_hz) for band in correction.bands["L"]] == [
        (1, True, 60),
        (2, False, 90),
    ]
    assert (undo, redo) == (None, "step")  # what was undone can still be done again


def test_states_rigs_and_findings_of_older_files_keep_what_they_say(tmp_path):
    # A file as version 0006 wrote it: a convolving preset, held by a round and kept once more; a rig in one piece; a
    # level check and a line check.
    engine = database_module.engine_of(tmp_path / "dolce.sqlite")
    migrate(engine, to="0006")
    taps = np.array([1.0, 0.5, -0.25], dtype="<f4")
    settings = {
        "trim_db": -1.5,
        "delay_s": 0.002,
        "polarity": "normal",
        "filters": [],
        "high_pass": None,
        "low_pass": None,
        "convolution": {"sample_rate_hz": 48000, "taps": b64encode(taps.tobytes()).decode()},
    }
    state = json.dumps(
        {
            "active": "A",
            "presets": {"A": {"name": "Ours", "cut_db": 1.0, "channels": {"L": settings}, "bass": None, "ours": True}},
            "muted": ["R"],
            "solo": "",
            "dimmed": False,
            "slate": ["delay"],
        }
    )
    rig = {
        "sample_rate_hz": 96000,
        "sweep_level_dbfs": -20.0,
        "sweep_seconds": 4.0,
        "microphone_gain_db": 3.0,
        "pace": "fast",
        "hardware": "rehearsal",
        "faults": [{"kind": "inverted", "channels": ["R"], "outputs": []}],
        "knobs_db": {"volume": -3.0},
        "full_scale_spl_db": 118.0,
        "ceiling_dbfs": -6.0,
        "ceiling_spl_db": None,
        "limits": {"id": 4, "name": "Rack", "bands": 8},
        "plays_effects": True,
        "microphones": [],
        "pointing": "",
    }
    line = {
        "noise_dbfs": -70.0,
        "signal_dbfs": -30.0,
        "peak_dbfs": -20.0,
        "level_db": -3.0,
        "bass_db": 0.0,
        "hump_db": 0.0,
        "arrival_s": 0.01,
        "polarity": "normal",
        "hum_db": 0.0,
        "howls": False,
        "reason": "old",
        "really": "L",
        "heard": "R",
    }
    with engine.begin() as connection:
        run = connection.exec_driver_sql
        run(
            "INSERT INTO jobs (id, name, place, notes, units, created_at, changed_at, seed, rig, processor, round_id, "
            "plan_position) VALUES (1, 'Old', '', '', 'metres', '2026-01-01', '2026-01-01', 1, ?, ?, 1, 1)",
            (json.dumps(rig), state),
        )
        run(
            "INSERT INTO plan_steps (job_id, position, what, plan) VALUES (1, 1, 's', ?)",
            (json.dumps(plan_values(attic())),),
        )
        run("INSERT INTO rounds (id, job_id, name, state, created_at) VALUES (1, 1, 'R', ?, '2026-01-01')", (state,))
        run("INSERT INTO kept_states (id, job_id, at, state) VALUES (7, 1, '2026-01-01', ?)", (state,))
        for kind, result in (
            ("level", {"L": [-70.0, -30.0, -20.0], "rests on": {"sweep level": -20.0}}),
            ("lines", {"L": line}),
            ("takes", {}),
            ("reference", {"kept": {"L": -31.5}}),
        ):
            run(
                "INSERT INTO passes (job_id, kind, state, message, steps, done_steps, fraction, seconds_per_step, "
                "started_at, result) VALUES (1, ?, 'done', '', '[]', 0, 0, 1, '2026-01-01', ?)",
                (kind, json.dumps(result)),
            )
    engine.dispose()
    opened = Database(tmp_path)
    with UnitOfWork(opened, write=False) as work:
        job, found = (
            work.jobs.get(1),
            {kind: work.passes.latest(1, kind).result for kind in ("level", "lines", "takes", "reference")},
        )
        (old_round,) = work.takes.rounds(1)
        kept = work.kept_states.get(1, 7)
    with opened.engine.connect() as connection:
        counts = [connection.exec_driver_sql(f"SELECT count(*) FROM {t}").scalar() for t in ("states", "taps")]
    opened.close()
    assert counts == [1, 1]
    assert job.processor == job.simulated == old_round.state == kept
    assert (old_round.bypassed, old_round.corrects) == (False, True)
    own = kept.presets["A"].channels["L"]
    assert (own.trim_db, own.delay_s, own.convolution.impulse.tolist()) == (-1.5, 0.002, [1.0, 0.5, -0.25])
    assert (kept.muted, kept.slate, kept.presets["A"].cut_db) == (("R",), ("delay",), 1.0)
    assert (job.rig.sample_rate_hz, job.rig.sweep_seconds, job.rig.levels.sweep_level_dbfs) == (96_000, 4.0, -20.0)
    assert (job.rig.levels.full_scale_spl_db, job.rig.levels.plays_effects) == (118.0, True)
    assert (job.rig.rehearsal.pace, job.rig.rehearsal.knobs_db) == ("fast", {"volume": -3.0})
    assert job.rig.rehearsal.faults[0].channels == ("R",)
    assert (job.limits.id, job.limits.name, job.limits.bands) == (4, "Rack", 8)
    assert job.rig.processor.can.readable
    assert (found["level"].readings["L"].signal_dbfs, found["level"].rests_on) == (-30.0, {"sweep level": -20.0})
    heard = found["lines"].lines["L"]
    assert (heard.reading.arrival_s, heard.really, heard.heard) == (0.01, "L", "R")
    assert found["takes"] is None
    assert found["reference"].kept == {"L": -31.5}
