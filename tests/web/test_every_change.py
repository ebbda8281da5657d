"""What holds at every address: no change from elsewhere or without a token, safe headers, and names that stay text.

Addresses are taken from the applications themselves, so none is left out.
"""

import csv
import io
import re
import zipfile
from html.parser import HTMLParser
from xml.etree import ElementTree

import pytest
from flask import Flask

from asking import client_of, client_of_app, post
from dolce.core.geometry import Point
from dolce.core.room import Box
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.web import create_app
from rooms import shaped_folder

JOB = JobDetails(name="Loft")
HOSTILE = "=<img src=x onerror=alert(1)>\"'&{{7*7}}"
_VALUES = {
    "job_id": "1",
    "number": "1",
    "channel": "L",
    "spot": "1",
    "take_id": "1",
    "round_id": "1",
    "slot": "A",
    "band_id": "1",
    "seat_id": "1",
    "spot_id": "1",
    "box_id": "1",
    "sheet": "meter",
    "thing": "L",
    "to": "A",
}


@pytest.fixture(scope="module")
def shaped(prepared):
    """A shaped pair whose every name is hostile."""
    opened = open_services(shaped_folder(prepared))
    client = client_of(opened)
    for path, form in (
        ("edit", {"name": HOSTILE, "place": HOSTILE, "notes": HOSTILE, "units": "metres"}),
        ("room/seats/1", {"name": HOSTILE[:30], "weight": "1", "main": "on", "sheet": "seats"}),
        ("rig/microphones", {"name": HOSTILE, "serial": HOSTILE}),
        ("takes/rounds", {"name": HOSTILE}),
        ("takes/take/1/note", {"note": HOSTILE}),
        ("align/kept", {"name": HOSTILE, "notes": HOSTILE}),
        ("shape/versions/keep", {"version_name": HOSTILE, "note": HOSTILE}),
        ("shape/target/keep", {"name": HOSTILE}),
        ("report", {"title": HOSTILE, "words-read": HOSTILE}),
    ):
        assert post(client, f"/jobs/1/{path}", **form).status_code in (200, 303), path
    opened.room.add_box(
        1,
        Box(
            id=1,
            name=HOSTILE[:40],
            kind="desk",
            place=Point(x_m=0.6, y_m=0.6, z_m=0.0),
            width_m=0.3,
            depth_m=0.3,
            height_m=0.3,
        ),
    )
    opened.loading.load(1, "A", "corrected")
    yield opened
    opened.close()


def rules(app: Flask, method: str) -> list[str]:
    """Addresses with values that are there."""
    return [
        re.sub(r"<(?:\w+:)?(\w+)>", lambda found: _VALUES.get(found[1], "1"), rule.rule)
        for rule in sorted(app.url_map.iter_rules(), key=str)
        if method in rule.methods and rule.endpoint not in ("static", "file", "font")
    ]


def remote_of(services):
    """The application of a remote, and its address."""
    desk = create_app(services).extensions["dolce-remote"]
    desk.gone_s = 1e9  # a device of the tests asks only when a test does
    desk.start(1, address="127.0.0.1", secure=False)
    app = desk.app_of(desk, False)
    return desk, app, desk.present.url


def changed(services) -> tuple:
    """What any change would show in: jobs with their logbooks, sound, and the files beside the database."""
    jobs = services.jobs.all()
    return (
        [(job.name, job.changed_at) for job in jobs],
        [services.jobs.logbook(job.id) for job in jobs],
        services.sound.running(),
        sorted(path.name for path in services.folder.rglob("*") if not path.name.startswith("dolce.sqlite")),
    )


@pytest.mark.parametrize(
    ("headers", "refused"),
    [
        ({}, 400),
        ({"Host": "evil.example"}, 400),
        ({"Origin": "http://evil.example"}, 403),
        ({"Origin": "null"}, 403),
        ({"Origin": "http://localhost:1"}, 403),
        ({"Sec-Fetch-Site": "cross-site"}, 403),
        ({"Sec-Fetch-Site": "same-site"}, 403),
    ],
)
def test_no_change_is_made_without_a_token_or_for_another_page(services, headers, refused):
    services.jobs.create(JOB)
    before = changed(services)
    app = create_app(services)
    client = client_of_app(app)
    paths = rules(app, "POST")
    assert len(paths) > 150
    for path in paths:
        wanted = 200 if path == "/sound/stop" and not headers else refused
        assert client.post(path, headers=headers).status_code == wanted, path
    desk, remote, base = remote_of(services)
    before_remote = changed(services)
    phone = client_of_app(remote)
    for path in rules(remote, "POST"):
        assert phone.post(path, base_url=base, headers=headers).status_code == refused, path
    assert not desk.present.token
    desk.enter(desk.present.code, address="")  # nobody has guessed: the code still stands
    assert changed(services) == before_remote
    desk.close()
    assert changed(services)[:3] == before[:3]


def test_a_page_of_ours_is_let_through_whatever_its_browser_tells(services):
    client = client_of(services)
    found = re.search(r'name="csrf-token" content="([^"]+)"', client.get("/").text)[1]
    answer = client.post(
        "/jobs",
        data={"csrf_token": found, "name": "Loft", "units": "metres"},
        headers={"Origin": "http://localhost", "Sec-Fetch-Site": "same-origin"},
    )
    assert answer.status_code == 303
    assert [job.name for job in services.jobs.all()] == ["Loft"]


class Inserted(HTMLParser):
    """Tags and attributes that a name has brought in: none of ours is called so."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.found: list[str] = []

    def handle_starttag(self, tag, attributes) -> None:
        names = [name for name, _ in attributes]
        if (tag == "img" and ("src", "x") in attributes) or any(name.startswith("on") for name in names):
            self.found.append(self.get_starttag_text())


def test_every_address_sends_safe_headers_and_names_as_text(shaped):
    app = create_app(shaped)
    client, kinds = client_of_app(app), set()
    for path in rules(app, "GET"):
        with client.get(path) as answer:
            assert answer.status_code in (200, 302, 404, 409, 422), path
            policy = answer.headers["Content-Security-Policy"]
            assert "default-src 'none'" in policy, path
            assert "unsafe" not in policy, path
            assert answer.headers["X-Content-Type-Options"] == "nosniff", path
            assert answer.headers["Cross-Origin-Resource-Policy"] == "same-origin", path
            if answer.status_code == 200:
                kinds.add(answer.mimetype)
                _stays_text(answer.mimetype, answer.data, path)
                name = answer.headers.get("Content-Disposition", "")
                assert not set("\r\n<>") & set(name), path
    assert {"text/html", "image/svg+xml", "text/csv", "application/zip", "application/json"} <= kinds
    for sheet in ("seats", "spots", "more", "boxes"):
        _stays_text("text/html", client.get(f"/jobs/1/room?sheet={sheet}").data, sheet)
    for sheet in ("microphones", "processor", "levels", "lines", "meter", "hardware"):
        _stays_text("text/html", client.get(f"/jobs/1/rig?sheet={sheet}").data, sheet)


def _stays_text(kind: str, data: bytes, path: str) -> None:
    """That a name in an answer is nothing but text."""
    if kind == "text/html":
        reader = Inserted()
        reader.feed(data.decode())
        assert not reader.found, (path, reader.found)
        assert b"=<img src=x onerror=alert(1)>\"'&49" not in data, path  # nor is it a template of its own
    elif kind == "image/svg+xml":
        tags = {tag.tag.rpartition("}")[2] for tag in ElementTree.fromstring(data).iter()}
        assert not tags & {"img", "script", "foreignObject"}, path
    elif kind == "text/csv":
        for row in csv.reader(io.StringIO(data.decode("utf-8-sig"))):
            assert not [cell for cell in row if cell.startswith(("=", "@"))], (path, row)
    elif kind == "application/zip":
        with zipfile.ZipFile(io.BytesIO(data)) as package:
            for name in package.namelist():
                assert not name.startswith(("/", "\\")), (path, name)
                assert ".." not in name, (path, name)
                assert not set('<>"\r\n') & set(name), (path, name)
                inner = {"csv": "text/csv", "svg": "image/svg+xml", "html": "text/html"}.get(name.rpartition(".")[2])
                if inner:
                    _stays_text(inner, package.read(name), f"{path}: {name}")


def test_the_name_is_there_to_be_read(shaped):
    for path in ("/", "/jobs/1/room", "/jobs/1/report"):
        assert "&lt;img src=x onerror=alert(1)&gt;" in client_of(shaped).get(path).text, path


def test_the_remote_shows_names_as_text_too(shaped):
    desk, app, base = remote_of(shaped)
    phone = client_of_app(app)
    found = re.search(r'name="csrf_token" value="([^"]+)"', phone.get("/", base_url=base).text)[1]
    phone.post("/enter", base_url=base, data={"csrf_token": found, "code": desk.present.code})
    page = phone.get("/", base_url=base)
    assert "&lt;img src=x onerror=alert(1)&gt;" in page.text
    _stays_text("text/html", page.data, "the seat")
    desk.close()


def test_laptop_and_remote_on_one_spot_the_later_one_is_told(services):
    job = services.jobs.create(JOB)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    laptop = client_of(services)
    desk, app, base = remote_of(services)
    phone = client_of_app(app)

    def token_of(path):
        return re.search(r'name="csrf_token" value="([^"]+)"', phone.get(path, base_url=base).text)[1]

    phone.post("/enter", base_url=base, data={"csrf_token": token_of("/"), "code": desk.present.code})
    seat, page = phone.get("/", base_url=base).text, laptop.get("/jobs/1/takes").text
    on_phone = re.search(r'action="(/run/1\?seen=\d+)"', seat)[1]
    on_laptop = [found.replace("&amp;", "&") for found in re.findall(r'"(/jobs/1/takes/spots/1/run\?seen=\d+)"', page)]
    assert on_laptop
    found = token_of("/now")
    phone.post(on_phone, base_url=base, data={"csrf_token": found})
    services.sound.wait(20)
    taken = services.taking.board(1).last_take
    assert taken
    answer = post(laptop, on_laptop[0])
    assert answer.status_code == 409
    assert "came in there since this page was shown" in answer.text
    again = phone.post(on_phone, base_url=base, data={"csrf_token": found})
    assert "came in there since this page was shown" in again.text
    services.sound.wait(20)
    assert services.taking.board(1).last_take == taken  # neither has played anything
    fresh = re.search(r'action="(/repeat/\w+/1\?seen=\d+)"', again.text)[1]
    phone.post(fresh, base_url=base, data={"csrf_token": found})
    services.sound.wait(20)
    assert services.taking.board(1).last_take == taken + 1
    desk.close()
