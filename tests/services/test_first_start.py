"""The very first start, killed at any moment: the next one brings all of it, and once."""

import shutil
import sqlite3
from contextlib import closing

import pytest

from dolce.errors import Conflict
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample import first_start
from dolce.services.sample.first_start import make_samples
from dolce.services.wiring import open_services
from dolce.store import DataFolder, folder


class Killed(BaseException):
    """As a signal that nothing can answer: what follows is never run."""


@pytest.fixture
def two_jobs(monkeypatch):
    """Sample jobs that take no time; `after` is how many are made before the start is killed."""
    after = [2]

    def build(services, *, report) -> None:
        for number in range(2):
            if after[0] == number:
                raise Killed
            services.jobs.create(JobDetails(name=f"Sample {number}"))
        services.preparing.want([1])

    monkeypatch.setattr(first_start, "build_demo", build)
    return after


def names(place) -> list[str]:
    opened = open_services(place)
    found = sorted(job.name for job in opened.jobs.all())
    opened.close()
    return found


def silent(_text: str) -> None:
    pass


def test_all_sample_jobs_are_there_and_what_is_still_to_be_prepared(tmp_path, two_jobs):
    make_samples(tmp_path / "data", report=silent)
    assert names(tmp_path / "data") == ["Sample 0", "Sample 1"]
    assert sorted(path.name for path in (tmp_path / "data").iterdir()) == [
        "data-folder.txt",
        "dolce.sqlite",
        "lock",
        "preparing.json",
    ]
    assert (tmp_path / "data").stat().st_mode & 0o777 == 0o700
    assert (tmp_path / "data" / "dolce.sqlite").stat().st_mode & 0o777 == 0o600


def test_killed_between_two_jobs_the_next_start_makes_both_once(tmp_path, two_jobs):
    two_jobs[0] = 1
    with pytest.raises(Killed):
        make_samples(tmp_path / "data", report=silent)
    assert (tmp_path / "data" / "first-start" / "dolce.sqlite").exists()
    assert not (tmp_path / "data" / "dolce.sqlite").exists()
    two_jobs[0] = 2
    make_samples(tmp_path / "data", report=silent)
    assert names(tmp_path / "data") == ["Sample 0", "Sample 1"]


@pytest.mark.parametrize("moved", [1, 2])
def test_killed_while_they_are_moved_in_the_next_start_has_them_once(tmp_path, two_jobs, monkeypatch, moved):
    move_in, left = first_start.move_in, [moved]

    def until(beside, path):
        move_in(beside, path)
        left[0] -= 1
        if not left[0]:
            raise Killed

    monkeypatch.setattr(first_start, "move_in", until)
    with pytest.raises(Killed):
        make_samples(tmp_path, report=silent)
    monkeypatch.undo()
    monkeypatch.setattr(
        first_start,
        "build_demo",
        lambda services, report: (services.jobs.create(JobDetails(name="Made again")), services.preparing.want([1])),
    )
    make_samples(tmp_path, report=silent)
    assert names(tmp_path) == (["Made again"] if moved == 1 else ["Sample 0", "Sample 1"])
    assert not (tmp_path / "first-start").exists()


def test_two_first_starts_at_once_the_second_is_told(tmp_path, two_jobs):
    (tmp_path / "first-start").mkdir()
    held = DataFolder(tmp_path / "first-start")
    with pytest.raises(Conflict, match="already running"):
        make_samples(tmp_path, report=silent)
    held.close()


def test_a_folder_that_was_begun_is_left_as_it_is_however_empty(tmp_path, two_jobs):
    open_services(tmp_path).close()
    make_samples(tmp_path, report=silent)
    assert names(tmp_path) == []


@pytest.mark.parametrize("pages", [0, 1])
def test_a_database_that_nothing_was_written_into_yet_is_no_obstacle(tmp_path, pages):
    # Killed after the file was made, or after SQLite wrote its first page, before the first step ran.
    file = tmp_path / folder.DATABASE
    file.touch()
    if pages:
        with closing(sqlite3.connect(file)) as raw:
            raw.execute("PRAGMA journal_mode = WAL")
        assert file.stat().st_size
    opened = open_services(tmp_path)
    opened.jobs.create(JobDetails(name="One"))
    opened.close()
    assert names(tmp_path) == ["One"]


def test_an_emptied_database_is_still_refused_where_jobs_were_kept(tmp_path):
    open_services(tmp_path).close()
    shutil.copy("/dev/null", tmp_path / folder.DATABASE)
    with pytest.raises(Exception, match="is empty"):
        open_services(tmp_path)
