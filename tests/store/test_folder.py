"""The data folder: whose it is, and what is said when what is in it is missing, foreign, newer or damaged."""

import sqlite3
import stat
import zipfile
from contextlib import closing

import numpy as np
import pytest

from asking import client_of
from dolce.errors import Conflict, Damaged, StorageError
from dolce.services.jobs.folder_check import check_folder
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import Place, ReadOptions
from dolce.services.wiring import open_services
from dolce.store import Database
from dolce.store.folder import MARK


@pytest.fixture
def folder(tmp_path):
    """A closed folder with two jobs, the first with a take."""
    place = tmp_path / "data"
    opened = open_services(place)
    for name in ("One", "Two"):
        job = opened.jobs.create(JobDetails(name=name))
        opened.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    opened.taking.repeat(1, "L", 1)
    opened.sound.wait(20)
    opened.close()
    return place


def changed(folder, statement, *values):
    with closing(sqlite3.connect(folder / "dolce.sqlite")) as raw:
        raw.execute(statement, values)
        raw.commit()


def test_folder_and_files_are_their_users_own(folder):
    opened = open_services(folder)
    opened.jobs.create(JobDetails(name="Three"))  # so that the files beside the database are there
    modes = {path.name: stat.S_IMODE(path.stat().st_mode) for path in (folder, *folder.iterdir())}
    opened.close()
    assert modes.pop(folder.name) == 0o700
    assert {"dolce.sqlite", "dolce.sqlite-wal", "dolce.sqlite-shm"} <= set(modes)
    assert set(modes.values()) == {0o600}


def test_a_second_application_is_told_that_the_folder_is_in_use(folder):
    opened = open_services(folder)
    with pytest.raises(Conflict, match="already running with this data folder"):
        open_services(folder)
    opened.close()
    open_services(folder).close()


@pytest.mark.parametrize(
    ("harm", "message"),
    [
        (lambda file: file.write_bytes(b""), "is empty"),
        (lambda file: file.unlink(), "is missing, though jobs were kept here"),
        (lambda file: file.write_bytes(b"xx" + file.read_bytes()[2:]), "its beginning was overwritten"),
        (
            lambda file: file.write_bytes(file.read_bytes()[:100] + b"\xff" * 4000),
            "not a database|damaged|can't be used",
        ),
    ],
)
def test_what_is_no_database_is_refused_in_words_and_left_as_it_is(folder, harm, message):
    file = folder / "dolce.sqlite"
    for beside in ("dolce.sqlite-wal", "dolce.sqlite-shm"):
        (folder / beside).unlink(missing_ok=True)
    harm(file)
    before = file.read_bytes() if file.exists() else None
    with pytest.raises(StorageError, match=message):
        open_services(folder)
    assert (file.read_bytes() if file.exists() else None) == before
    with pytest.raises(StorageError, match=message):  # and the folder was let go
        open_services(folder)


def test_a_folder_whose_mark_is_gone_is_opened_with_its_jobs_and_marked_again(folder):
    (folder / MARK).unlink()
    opened = open_services(folder)
    assert not opened.is_new
    assert [job.name for job in opened.jobs.all()] == ["One", "Two"]
    opened.close()
    assert (folder / MARK).exists()


@pytest.mark.parametrize("marked", [True, False])
def test_a_database_without_tables_is_a_start_that_was_ended_or_jobs_that_are_lost(folder, marked):
    with closing(sqlite3.connect(folder / "dolce.sqlite")) as raw:
        for (name,) in raw.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
            raw.execute(f'DROP TABLE "{name}"')
        raw.commit()
    if marked:
        with pytest.raises(StorageError):
            open_services(folder)
    else:
        (folder / MARK).unlink()
        opened = open_services(folder)
        assert opened.jobs.all() == []
        opened.close()


def test_a_database_of_a_newer_version_is_not_touched(folder):
    changed(folder, "UPDATE alembic_version SET version_num = '9999'")
    before = (folder / "dolce.sqlite").read_bytes()
    with pytest.raises(StorageError, match="newer version of Dolce"):
        open_services(folder)
    assert (folder / "dolce.sqlite").read_bytes() == before
    assert not (folder / "dolce.sqlite-wal").exists()


def test_a_disk_that_is_full_at_the_start_is_said_in_one_line(tmp_path, monkeypatch):
    error = sqlite3.OperationalError("database or disk is full")
    error.sqlite_errorcode = sqlite3.SQLITE_FULL

    def refuses(*_):
        raise error

    monkeypatch.setattr("dolce.store.database.migrate", refuses)
    with pytest.raises(StorageError, match="the disk is full"):
        open_services(tmp_path / "data")
    monkeypatch.undo()
    opened = open_services(tmp_path / "data")  # room again: what was begun is no obstacle
    assert opened.is_new
    opened.close()


def test_what_was_kept_is_on_the_disk_when_it_is_kept(tmp_path):
    # SQLite, "PRAGMA synchronous": in WAL mode only FULL (2) or more syncs at every commit.
    opened = Database(tmp_path / "data")
    with opened.engine.connect() as connection:
        assert connection.exec_driver_sql("PRAGMA synchronous").scalar() == 2
        assert connection.exec_driver_sql("PRAGMA journal_mode").scalar() == "wal"
    opened.close()


@pytest.mark.parametrize(
    ("statement", "part"),
    [
        ("UPDATE plan_steps SET plan = substr(plan, 1, 40) WHERE job_id = 1", "plan"),
        ('UPDATE jobs SET rig = \'{"rehearsal": {"pace": 7}}\' WHERE id = 1', "rig"),
        ("UPDATE jobs SET processor_id = NULL WHERE id = 1", "processor"),
        ("UPDATE jobs SET changed_at = 'yesterday' WHERE id = 1", "dates or its texts"),
        ("UPDATE jobs SET created_at = 12 WHERE id = 1", "dates or its texts"),
        ("UPDATE jobs SET notes = CAST(x'ff41' AS TEXT) WHERE id = 1", "dates or its texts"),
        ("DELETE FROM plan_steps WHERE job_id = 1", "plan"),
    ],
)
def test_a_job_that_can_not_be_read_is_set_aside_and_the_others_open(folder, statement, part):
    changed(folder, statement)
    opened = open_services(folder)
    jobs, damaged = opened.jobs.listing()
    assert [job.name for job in jobs] == ["Two"]
    assert [(job.name, job.takes) for job in damaged] == [("One", 1)]
    assert f"its {part} can't be read" in damaged[0].fault
    assert opened.taking.board(2).wanted == 18
    with pytest.raises(Damaged, match=f"its {part} can't be read"):
        opened.taking.board(1)
    page = client_of(opened).get("/").text  # which lists it, whatever it holds
    assert "One" in page
    with opened.jobs.salvage(1)[0] as package, zipfile.ZipFile(package) as files:
        assert files.read("job.txt").startswith(b"One\n")
    opened.jobs.delete(1)  # it can be put away like any other, ...
    assert opened.jobs.listing()[1] == []
    opened.jobs.restore(1)  # ... and is as damaged as before when it is back
    assert [job.name for job in opened.jobs.listing()[1]] == ["One"]
    opened.close()


def test_a_deleted_job_whose_date_is_none_is_listed_and_never_let_go_by_itself(folder):
    changed(folder, "UPDATE jobs SET deleted_at = 'once' WHERE id = 1")
    opened = open_services(folder)
    opened.jobs.started()
    assert opened.jobs.deleted() == [(1, "One")]
    opened.jobs.restore(1)
    assert sorted(job.name for job in opened.jobs.all()) == ["One", "Two"]
    opened.close()


@pytest.mark.parametrize(
    ("column", "page"),
    [("rounds SET created_at", "takes"), ("takes SET taken_at", "takes"), ("logbook SET at", "prove/logbook/99")],
)
def test_a_page_of_a_job_with_a_date_that_is_none_says_so(folder, column, page):
    changed(folder, f"UPDATE {column} = 'soon'")
    opened = open_services(folder)
    answer = client_of(opened).get(f"/jobs/1/{page}")
    assert answer.status_code < 500
    assert "part of this job can" in answer.text
    opened.close()


def test_a_state_that_the_disk_has_changed_is_not_taken_for_what_was_kept(folder):
    opened = open_services(folder)
    opened.processor.dim(1)
    opened.close()
    changed(folder, "UPDATE states SET body = replace(body, '\"dimmed\": true', '\"dimmed\": false')")
    opened = open_services(folder)
    assert [job.name for job in opened.jobs.listing()[0]] == ["Two"]  # its neutral state stands in another row
    with pytest.raises(Damaged, match="processor can't be read"):
        opened.taking.board(1)
    opened.close()


def test_contents_of_takes_that_the_disk_has_changed_are_marked_and_not_used(folder):
    changed(folder, "UPDATE takes SET level_db = zeroblob(length(level_db))")
    opened = open_services(folder)
    take = opened.taking.board(1).takes[("L", 1)]
    assert (take.word, take.usable) == ("damaged", False)
    assert opened.taking.board(1).taken == 0
    assert opened.progress.status(1).stops[2].line == "0 of 18 takes"
    opened.taking.run_spot(1, 1)  # it is asked for again
    opened.sound.wait(20)
    assert opened.taking.board(1).takes[("L", 1)].word == "clean"
    opened.close()


def test_samples_that_the_disk_has_changed_are_refused_and_found_by_the_check(folder):
    assert check_folder(folder).faults == ()
    changed(folder, "UPDATE samples SET response = zeroblob(length(response))")
    report = check_folder(folder)
    assert (report.jobs, report.takes, len(report.faults)) == (2, 1, 1)
    assert report.faults[0].startswith("One, L, spot of id 1, attempt 1")
    opened = open_services(folder)
    with pytest.raises(Damaged, match="L, attempt 1: the samples of this take are not those that were kept"):
        opened.recordings.original(1, 1)
    with pytest.raises(Damaged, match="L, attempt 1"):
        opened.reading.view(1, ReadOptions(view="impulse", place=Place(spot=1)))
    opened.close()


def test_unsmoothed_levels_that_the_disk_has_changed_are_computed_anew(folder):
    opened = open_services(folder)
    before = opened.reading.view(1, ReadOptions(smoothing="none")).curves[0].level_db
    opened.close()
    changed(folder, "UPDATE samples SET fine_db = zeroblob(length(fine_db))")
    opened = open_services(folder)
    after = opened.reading.view(1, ReadOptions(smoothing="none")).curves[0].level_db
    np.testing.assert_allclose(after, before, atol=1e-3)  # from samples that are kept as 32-bit numbers
    opened.close()


def test_copies_share_samples_and_keep_them_when_the_first_job_goes(folder):
    opened = open_services(folder)
    copy = opened.jobs.copy(1)
    kept = opened.recordings.original(1, 1)
    with opened.context.change() as work:
        assert sum(1 for _ in work.takes.samples_as_kept(copy.id)) == 1
        work.jobs.purge(1)
    with closing(sqlite3.connect(folder / "dolce.sqlite")) as raw:
        assert raw.execute("SELECT count(*) FROM samples").fetchone() == (1,)
    take = opened.taking.board(copy.id).takes[("L", 1)]
    assert opened.recordings.original(copy.id, take.id) == kept
    with opened.context.change() as work:
        work.jobs.purge(copy.id)
    with closing(sqlite3.connect(folder / "dolce.sqlite")) as raw:
        assert raw.execute("SELECT count(*) FROM samples").fetchone() == (0,)
    opened.close()
