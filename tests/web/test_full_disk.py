"""A disk that is full, of the data folder or of temporary files: said on the page, and nothing half there."""

import http.client
import io
import re
import threading

import pytest
from urllib3 import encode_multipart_formdata

from asking import client_of, post, token
from dolce.services.jobs import backups
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.web.serving import new_server
from rooms import shaped_folder, two_seats_taken

FULL = OSError(28, "No space left on device")


def full(*_, **__):
    raise FULL


@pytest.fixture
def taken(services):
    return two_seats_taken(services, layout="2.0", subs=0)


@pytest.fixture
def served(services, taken):
    server = new_server(services, port=0)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    yield server.effective_port
    server.close()
    thread.join(5)


def asked(port, method, path, body=b"", **headers):
    link = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    try:
        link.request(method, path, body, headers)
        answer = link.getresponse()
        return answer.status, answer.read(), answer.getheader("Set-Cookie", "")
    finally:
        link.close()


def test_a_large_file_that_can_not_be_received_is_said_on_the_page(services, served, monkeypatch):
    _, page, cookie = asked(served, "GET", "/")
    crumb = re.search(rb'name="csrf_token" value="([^"]+)"', page)[1].decode()
    body, kind = encode_multipart_formdata({"csrf_token": crumb, "backup": ("x.dolce-backup", bytes(900_000))})
    monkeypatch.setattr("waitress.buffers.TempfileBasedBuffer.append", full)
    monkeypatch.setattr("tempfile.TemporaryFile", full)
    status, message, _ = asked(served, "POST", "/backups/add", body, **{"Content-Type": kind, "Cookie": cookie})
    assert status == 507
    assert b"The disk can&#39;t take it: No space left on device" in message
    assert services.backups.files() == []
    # And what is fetched lies on no disk, however large: it comes whole.
    assert len(asked(served, "GET", "/jobs/1/takes/1/recording")[1]) > 20_000


def test_a_backup_that_is_handed_in_leaves_nothing_where_the_data_folder_is_full(services, taken, monkeypatch):
    services.backups.begin_backup([taken])
    services.folder_work.wait()
    name = services.backups.files()[0].name
    data = (services.backups.folder / name).read_bytes()
    monkeypatch.setattr(backups, "move_in", full)
    client = client_of(services)
    answer = post(client, "/backups/add", htmx=False, backup=(io.BytesIO(data), "again.dolce-backup"))
    assert answer.status_code == 507
    assert "Make room on the disk" in answer.text
    assert [path.name for path in services.backups.folder.iterdir()] == [name]


def test_a_package_and_a_passage_need_no_disk(prepared, monkeypatch):
    opened = open_services(shaped_folder(prepared))
    client = client_of(opened)
    for name in ("TemporaryFile", "NamedTemporaryFile", "SpooledTemporaryFile", "TemporaryDirectory", "mkstemp"):
        monkeypatch.setattr(f"tempfile.{name}", full)
    assert client.get("/jobs/1/read/1/L/responses.sofa").status_code == 200
    package = client.get("/jobs/1/load/package.zip")
    assert package.status_code == 200
    assert package.data[-22:-18] == b"PK\5\6"  # its end is there
    assert token(client)
    opened.jobs.create(JobDetails(name="Another"))  # the database has a place of its own
    opened.close()
