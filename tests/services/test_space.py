"""Space on the disk: what is deleted is given back when the person says so; the file is as small as what is in it."""

import sqlite3
from contextlib import closing

import pytest

from asking import client_of, post
from dolce.errors import Conflict, InvalidValue, StorageError
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.store import database as database_module
from rooms import shaped_folder


@pytest.fixture
def folder(prepared):
    """A shaped pair, and another job with as many takes of its own."""
    place = shaped_folder(prepared)
    opened = open_services(place)
    opened.backups.begin_backup([1])
    opened.folder_work.wait()
    opened.backups.begin_restore(opened.backups.files()[0].name)
    opened.folder_work.wait()
    opened.close()
    return place


def file_size(folder) -> int:
    return (folder / "dolce.sqlite").stat().st_size


def given_back(services) -> str:
    services.space.begin()
    services.folder_work.wait()
    assert services.folder_work.present.fault == ""
    return services.folder_work.present.message


def test_a_deleted_job_goes_for_good_and_the_file_is_as_small_as_one_that_never_had_it(folder, prepared):
    alone = shaped_folder(prepared)
    services = open_services(alone)
    services.context.database.compact(lambda _: None)
    services.close()
    services = open_services(folder)
    services.jobs.delete(2)
    view = services.space.view()
    assert (view.deleted, view.worth) == (1, True)
    assert "MB given back" in given_back(services)
    assert file_size(folder) == pytest.approx(file_size(alone), rel=0.05)
    assert services.jobs.deleted() == []
    assert services.space.view().free_bytes == 0
    takes = services.taking.board(1).taken
    assert takes == len(services.jobs.get(1).asked)
    services.close()
    again = open_services(folder)
    assert again.taking.board(1).taken == takes
    again.close()


def test_nothing_to_give_back_is_said_and_a_pass_is_not_disturbed(services):
    with pytest.raises(InvalidValue, match="nothing to give back"):
        services.space.begin()
    job = services.jobs.create(JobDetails(name="Loft"))
    gone = services.jobs.create(JobDetails(name="Gone"))
    services.jobs.delete(gone.id)
    services.taking.run_rest(job.id)
    with pytest.raises(Conflict, match="a pass is running"):
        services.space.begin()
    services.sound.stop()
    services.sound.wait(10)
    given_back(services)
    with pytest.raises(Exception, match="gone for good"):
        services.jobs.restore(gone.id)


def test_stopped_it_keeps_all_that_counts_and_can_be_gone_on_with(folder, monkeypatch):
    services = open_services(folder)
    services.jobs.delete(2)
    monkeypatch.setattr(database_module, "_PAGES_AT_ONCE", 1)
    compact = services.context.database.compact

    def stopped_soon(on_progress):
        def counted(part):
            if part > 0.1:
                services.folder_work.present.stop.set()
            on_progress(part)

        compact(counted)

    monkeypatch.setattr(services.context.database, "compact", stopped_soon)
    services.space.begin()
    services.folder_work.wait()
    assert services.folder_work.present.message.startswith("Stopped; what was given back by then")
    free = services.space.view().free_bytes
    assert free > 0
    monkeypatch.undo()
    services.context.database.compact(lambda _: None)
    assert services.space.view().free_bytes == 0
    assert services.context.database.faults() == []
    services.close()


def test_where_it_goes_wrong_it_does_not_say_that_all_is_as_it_was(services, monkeypatch):
    gone = services.jobs.create(JobDetails(name="Gone"))
    services.jobs.delete(gone.id)

    def full(_told):
        raise StorageError("the disk is full.", where="data folder")

    monkeypatch.setattr(services.context.database, "compact", full)
    services.space.begin()
    services.folder_work.wait()
    assert "the disk is full" in services.folder_work.present.fault
    assert services.folder_work.present.message == "Not done; what was given back by then stays so."
    assert services.jobs.deleted() == []


def test_a_file_of_an_older_version_is_written_anew_once(tmp_path):
    # As before: page by page was not possible.
    with closing(sqlite3.connect(tmp_path / "dolce.sqlite")) as raw:
        raw.execute("PRAGMA auto_vacuum=NONE")
        raw.execute("CREATE TABLE early (x)")
        raw.execute("DROP TABLE early")
        raw.commit()
    services = open_services(tmp_path)
    services.jobs.create(JobDetails(name="Kept"))
    with closing(sqlite3.connect(tmp_path / "dolce.sqlite")) as raw:
        assert raw.execute("PRAGMA auto_vacuum").fetchone() == (0,)
    services.context.database.compact(lambda _: None)
    with closing(sqlite3.connect(tmp_path / "dolce.sqlite")) as raw:
        assert raw.execute("PRAGMA auto_vacuum").fetchone() == (2,)
    assert [job.name for job in services.jobs.all()] == ["Kept"]
    services.close()


def test_the_page_asks_first_and_says_what_goes(services):
    client = client_of(services)
    job = services.jobs.create(JobDetails(name="Old attic"))
    assert 'href="/space"' not in client.get("/").text
    services.jobs.delete(job.id)
    assert "1 deleted job lies in it" in client.get("/").text
    asked = client.get("/space").text
    assert "can&#39;t be restored" in asked or "can't be restored" in asked
    assert "Old attic" in asked
    assert services.jobs.deleted()
    assert post(client, "/space", htmx=False).status_code == 303
    services.folder_work.wait()
    assert services.jobs.deleted() == []
