"""The remote in the seat: a code at the door, one device, little that it may do, nothing told without it."""

import gc
import hashlib
import re
import socket
import ssl
import threading
import weakref
from contextlib import suppress
from dataclasses import replace
from http.client import HTTPResponse

import pytest
from flask import Flask

from asking import client_of_app, post
from dolce.core.geometry import RoomSize
from dolce.core.room import new_plan
from dolce.devices.interface import SoundStopped
from dolce.errors import Conflict, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.web import create_app
from dolce.web.remote import connections
from dolce.web.remote.guesses import MOST_GUESSES, Guesses
from dolce.web.remote.listener import Listener, listening
from dolce.web.remote.session import addresses

LONG_S = 1e9


@pytest.fixture
def job_id(services):
    plan = new_plan(RoomSize(length_m=4.6, width_m=3.6, height_m=2.5), layout="2.0", subs=2, spots=2)
    made = services.jobs.create(JobDetails(name="Quiet cellar"), plan=plan)
    services.rigging.set_rig(made.id, pace="fast", sweep_seconds=1.0)
    return made.id


@pytest.fixture
def laptop(services):
    app = create_app(services)
    sessions = app.extensions["dolce-remote"]
    sessions.gone_s = LONG_S  # a device of the tests asks only when a test does
    yield client_of_app(app)
    app.extensions["dolce-remote"].close()


@pytest.fixture
def sessions(laptop):
    return laptop.application.extensions["dolce-remote"]


@pytest.fixture
def phone(laptop, sessions, job_id):
    """A browser of a device at the remote's address, outside the door."""
    answer = post(laptop, f"/jobs/{job_id}/remote/start", htmx=False, address="127.0.0.1", secure="no")
    assert answer.status_code == 303
    return Phone(sessions)


class Phone:
    """Asks the remote's own application as its listener would."""

    def __init__(self, sessions):
        self.client = client_of_app(sessions.app_of(sessions, False))
        self.base = sessions.present.url

    def get(self, path, **how):
        return self.client.get(path, base_url=self.base, **how)

    def post(self, path, *, headers=None, **data):
        token = re.search(r'name="csrf_token" value="([^"]+)"', self.get("/").text)[1]
        return self.client.post(path, base_url=self.base, headers=headers, data={"csrf_token": token, **data})

    def come_in(self, code):
        return self.post("/enter", code=code)


def test_there_is_none_until_it_is_switched_on_and_then_on_an_address_of_this_machine(laptop, sessions, job_id):
    page = laptop.get(f"/jobs/{job_id}/remote").text
    assert "It is off until you switch it on" in page
    assert sessions.present is None
    with pytest.raises(InvalidValue, match="no address of this machine"):
        sessions.start(job_id, address="203.0.113.9", secure=False)
    assert "127.0.0.1" in addresses()


def test_where_the_usual_port_is_taken_it_listens_at_another(sessions, job_id):
    with socket.socket() as taken:
        taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        with suppress(OSError):  # another test may have it just now: taken all the same
            taken.bind(("127.0.0.1", 5443))
            taken.listen()
        remote = sessions.start(job_id, address="127.0.0.1", secure=False)
        assert remote.port != 5443
        with socket.create_connection(("127.0.0.1", remote.port), timeout=10):
            sessions.stop()
    assert sessions.present is None


@pytest.mark.parametrize(
    "path",
    [
        "/",
        "/now",
        "/in/ABCDEFGH",
        "/run/1",
        "/stop",
        "/jobs/1/takes",
        "/jobs",
        "/help",
        "/file/dolce.css",
        "/file/../app.py",
        "/static/css/dolce.css",
        "/sound/stop",
    ],
)
def test_without_the_code_nothing_is_told_not_even_the_name_of_the_job(phone, path):
    for answer in (phone.get(path), phone.post(path)):
        assert "Quiet cellar" not in answer.text
        assert "spot" not in answer.text.lower()
        assert answer.status_code in (200, 400, 404, 405)
        if answer.status_code == 200:
            assert "Code, as it stands on the laptop" in answer.text


def test_with_the_code_the_next_spot_stands_there_and_is_run(phone, sessions, services, job_id):
    wrong = phone.come_in("AAAAAAAA")
    assert (wrong.status_code, "not the code" in wrong.text) == (403, True)
    assert phone.come_in(sessions.present.code.lower()).status_code == 303
    page = phone.get("/").text
    assert "Quiet cellar" in page
    first = services.jobs.get(job_id).spots[0]
    assert f"<strong>{first.place.z_m:.2f} m</strong> high" in page
    phone.post(f"/run/{first.id}")
    services.sound.wait()
    page = phone.get("/now").text
    assert 'class="word-clean">clean</span>' in page
    assert page.count('<td class="clean">') == 5  # both, each sub, and both subs together
    assert "Run spot 2" in page
    assert "Last: remote ran a spot" in page
    taken = services.taking.board(job_id).takes
    phone.post(f"/repeat/L/{first.id}")
    services.sound.wait()
    assert services.taking.board(job_id).takes["L", first.id].attempt == taken["L", first.id].attempt + 1


def test_one_device_at_a_time_and_the_code_is_used_once(phone, sessions, laptop, job_id):
    code = sessions.present.code
    phone.come_in(code)
    other = Phone(sessions)
    assert other.come_in(code).status_code == 403
    assert "Quiet cellar" not in other.get("/").text
    assert "A device is in." in laptop.get(f"/jobs/{job_id}/remote").text
    post(laptop, f"/jobs/{job_id}/remote/another", htmx=False)
    assert sessions.present.code != code
    assert other.come_in(sessions.present.code).status_code == 303
    assert "Quiet cellar" not in phone.get("/").text


def test_after_ten_wrong_codes_a_device_is_refused_and_others_are_not(phone, sessions, laptop, job_id):
    for _ in range(MOST_GUESSES - 1):
        assert phone.come_in("WRONGONE").status_code == 403
    assert "not listened to any more" in phone.come_in("WRONGONE").text
    late = phone.come_in(sessions.present.code)
    assert late.status_code == 429
    assert "too many codes from this device were wrong" in late.text
    assert not sessions.present.token
    page = laptop.get(f"/jobs/{job_id}/remote").text
    assert "Ten wrong codes came from 127.0.0.1" in page
    assert "Make a new code" in page
    elsewhere = Phone(sessions)
    elsewhere.client.environ_base["REMOTE_ADDR"] = "127.0.0.2"
    assert elsewhere.come_in(sessions.present.code).status_code == 303
    post(laptop, f"/jobs/{job_id}/remote/another", htmx=False)
    assert phone.come_in(sessions.present.code).status_code == 303


def test_many_addresses_that_guess_end_a_remote_that_nobody_is_in():
    guesses = Guesses()
    for k in range(999):
        guesses.wrong(f"192.0.2.{k % 250}")
    assert not guesses.too_many
    guesses.wrong("192.0.2.250")
    assert guesses.too_many
    assert guesses.refused == ()


def test_another_host_and_a_forged_form_are_refused(phone, sessions):
    assert phone.client.get("/", base_url="http://elsewhere.example").status_code == 400
    phone.come_in(sessions.present.code)
    forged = phone.client.post("/stop", base_url=phone.base, data={})
    assert forged.status_code == 400
    headers = phone.get("/").headers
    assert "default-src 'none'" in headers["Content-Security-Policy"]
    assert headers["Cache-Control"] == "no-store"


def test_either_side_ends_it_and_deleting_the_job_does(phone, sessions, laptop, services, job_id):
    phone.come_in(sessions.present.code)
    with pytest.raises(Conflict, match="there is a remote already"):
        sessions.start(job_id, address="127.0.0.1", secure=False)
    assert phone.post("/leave").status_code == 200
    assert sessions.present is None
    assert "Ended on the remote." in laptop.get(f"/jobs/{job_id}/remote").text
    sessions.start(job_id, address="127.0.0.1", secure=False)
    post(laptop, f"/jobs/{job_id}/remote/stop", htmx=False)
    assert sessions.present is None
    sessions.start(job_id, address="127.0.0.1", secure=False)
    post(laptop, f"/jobs/{job_id}/delete", htmx=False)
    assert sessions.present is None


def test_one_that_ended_is_held_by_nothing(sessions, job_id):
    sessions.start(job_id, address="127.0.0.1", secure=False)
    server = weakref.ref(sessions.present.server)
    sessions.stop()
    for thread in threading.enumerate():
        if thread.name in ("end of the remote", "remote", "remote's watch"):
            thread.join(20)
    gc.collect()
    assert server() is None


def test_a_job_that_is_gone_meanwhile_is_said_in_the_seat(phone, sessions, services, job_id):
    phone.come_in(sessions.present.code)
    services.jobs.delete(job_id)  # from elsewhere: the desk was not told
    answer = phone.get("/now", headers={"HX-Request": "true"})
    assert answer.status_code == 409
    assert "The job of this remote is gone. Open another one on the laptop" in answer.text
    assert answer.headers["HX-Retarget"] == "#seat"


def test_stop_on_the_remote_silences_and_the_page_says_which_side_it_was(phone, sessions, laptop, services, job_id):
    phone.come_in(sessions.present.code)
    services.rigging.set_rig(job_id, pace="real time", sweep_seconds=5.0)
    phone.post(f"/run/{services.jobs.get(job_id).spots[0].id}")
    assert services.sound.running() is not None
    answer = phone.post("/stop", headers={"HX-Request": "true"})
    present = services.context.sounding.present
    assert present is None or present.quiet.is_set()
    assert answer.headers["HX-Retarget"] == "#notice"
    assert answer.text.startswith(("Silent.", "Sound stopped."))
    services.sound.wait()
    assert answer.text in phone.get("/now").text  # it stays until the next press
    assert "last: remote" in laptop.get(f"/jobs/{job_id}/takes").text
    post(laptop, "/sound/stop")
    assert "Last: laptop stopped" in phone.get("/now").text


def test_a_device_that_is_not_silent_is_said_in_the_seat_until_the_next_press(phone, sessions, services, monkeypatch):
    phone.come_in(sessions.present.code)
    monkeypatch.setattr(type(services.sound), "stop", lambda _self: "not silent")
    phone.post("/stop")
    assert '<p id="notice" role="status" class="fault">The audio device has not answered.' in phone.get("/now").text
    phone.post("/go-on")
    assert "The audio device has not answered." not in phone.get("/now").text


def test_a_lost_connection_lets_the_take_finish_and_then_the_pass_waits(phone, sessions, services, job_id):
    phone.come_in(sessions.present.code)
    first = services.jobs.get(job_id).spots[0].id
    whole, takes = services.taking._take, []

    def until_the_connection_is_lost(*args, **how):
        takes.append(args[1])
        if len(takes) == 1:
            sessions.present.seen_at -= 2 * LONG_S
            # The watch looks four times a second; the take goes on until it has seen that.
            while not services.sound.running().paused:
                if args[5]():
                    raise SoundStopped
        return whole(*args, **how)

    services.taking._take = until_the_connection_is_lost
    phone.post(f"/run/{first}")
    present = services.context.sounding.present
    assert present.paused.wait(10)
    while present.done_steps < 1:
        pass
    assert services.sound.running().done_steps == 1
    page = phone.get("/now").text  # it is back, and nothing goes on by itself
    assert "The connection was lost: the take was finished, and it waits." in page
    assert services.sound.running().paused
    phone.post("/go-on")
    services.sound.wait()
    assert len(takes) == 5


def test_the_fingerprint_that_is_shown_is_that_of_the_certificate_it_answers_with(laptop, sessions, job_id):
    remote = sessions.start(job_id, address="127.0.0.1", secure=True)
    found = ssl.PEM_cert_to_DER_cert(ssl.get_server_certificate(("127.0.0.1", remote.port)))
    digest = hashlib.sha256(found).hexdigest().upper()
    assert remote.fingerprint == ":".join(digest[k : k + 2] for k in range(0, 64, 2))
    page = laptop.get(f"/jobs/{job_id}/remote").text
    assert remote.fingerprint[:47] in page
    assert f"{remote.url}/in/{remote.code} as a picture to scan" in page
    assert (sessions.services.folder / "remote" / "key.pem").stat().st_mode & 0o077 == 0


class Door:
    """Connections to a remote from an address of this machine's own network, TLS and all."""

    def __init__(self, remote):
        self.remote = remote
        self.trusting = ssl.create_default_context()
        self.trusting.check_hostname, self.trusting.verify_mode = False, ssl.CERT_NONE
        self.open = []

    def silent(self, address):
        """A connection over which nothing ever comes."""
        item = socket.create_connection(("127.0.0.1", self.remote.port), timeout=20, source_address=(address, 0))
        self.open.append(item)
        return item

    def secure(self, address):
        """One whose handshake is done."""
        item = self.trusting.wrap_socket(self.silent(address))
        self.open.append(item)
        return item

    def ask(self, address, method="GET", path="/", body="", cookie="", over=None):
        """An answer, whole; over a connection that is open, or one of its own."""
        asked = over or self.secure(address)
        kept = "keep-alive" if over else "close"
        asked.sendall(
            (
                f"{method} {path} HTTP/1.1\r\nHost: 127.0.0.1:{self.remote.port}\r\nConnection: {kept}\r\n"
                f"Cookie: {cookie}\r\nContent-Type: application/x-www-form-urlencoded\r\n"
                f"Content-Length: {len(body)}\r\n\r\n{body}"
            ).encode()
        )
        with HTTPResponse(asked) as answer:
            answer.begin()
            return answer, answer.read().decode()

    def come_in(self, address, code):
        """The answer to a code, and the cookies after it."""
        answer, page = self.ask(address)
        form = answer.getheader("Set-Cookie").split(";")[0]
        token = re.search(r'name="csrf_token" value="([^"]+)"', page)[1]
        entered, _ = self.ask(address, "POST", "/enter", f"csrf_token={token}&code={code}", form)
        cookies = [value.split(";")[0] for key, value in entered.getheaders() if key == "Set-Cookie"]
        return entered, "; ".join([form, *cookies])


@pytest.fixture
def door(laptop, sessions, job_id):
    made = Door(sessions.start(job_id, address="127.0.0.1", secure=True))
    yield made
    for item in made.open:
        item.close()


def test_strangers_that_are_silent_or_guess_hold_up_nobody_and_the_seat_keeps_its_connection(door, sessions):
    entered, cookies = door.come_in("127.0.0.1", sessions.present.code)
    assert entered.status == 303
    seat = door.secure("127.0.0.1")
    assert door.ask("", path="/now", cookie=cookies, over=seat)[0].status == 200
    # More than there is room for; none of them says a word, or says all of it.
    strangers = [door.silent(f"127.0.1.{k % 25 + 1}") for k in range(60)]
    slow = door.secure("127.0.2.1")
    slow.sendall(b"POST /enter HTTP/1.1\r\nHost: x\r\nContent-Length: 4000\r\n\r\nc")
    for k in range(MOST_GUESSES):
        assert door.come_in("127.0.2.2", f"WRONG{k}")[0].status == (429 if k == MOST_GUESSES - 1 else 403)
    refused = door.silent("127.0.2.2")  # not even shaken hands with, ...
    assert refused.recv(1) == b""
    for k in range(MOST_GUESSES):  # ... but for the seat's own address
        door.come_in("127.0.0.1", f"WRONG{k}")
    assert door.ask("127.0.0.1")[0].status == 200
    answer, page = door.ask("", path="/now", cookie=cookies, over=seat)
    assert (answer.status, "Quiet cellar" in page) == (200, True)
    assert strangers[0].recv(1) == b""  # those that have been there longest made room
    assert sessions.present.token


def test_what_does_not_become_the_seats_is_closed_in_time(door, sessions, monkeypatch):
    silent, half = door.silent("127.0.0.1"), door.secure("127.0.0.1")
    _, cookies = door.come_in("127.0.0.1", sessions.present.code)
    seat = door.secure("127.0.0.1")
    door.ask("", path="/now", cookie=cookies, over=seat)
    monkeypatch.setattr(connections, "STRANGER_S", 0.0)
    assert (silent.recv(1), half.recv(1)) == (b"", b"")
    assert door.ask("", path="/now", cookie=cookies, over=seat)[0].status == 200


def test_who_forgets_the_s_of_https_is_told(door):
    plain = door.silent("127.0.0.1")
    plain.sendall(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
    assert "begin the address with https://" in plain.makefile().read()


def test_subs_are_stepped_through_from_the_seat(phone, sessions, services, job_id):
    phone.come_in(sessions.present.code)
    phone.post("/live/subs")
    assert 'aria-label="Meter"' in phone.get("/now").text
    phone.post("/live/subs/Sub2")
    assert services.live.options(job_id, "subs").channel == "Sub2"
    phone.post("/stop")
    assert phone.post("/live/faults").status_code == 404
    assert replace(sessions.present).connected


def test_a_port_that_another_one_listens_at_in_between_leaves_nothing_open(monkeypatch):
    # Two that reuse an address may both be bound; the second to listen is refused.
    bind, bound = Listener.bind, []
    with socket.socket() as first:
        first.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        first.bind(("127.0.0.1", 0))

        def overtaken(self, *args):
            bound.append(bind(self, *args))
            first.listen()
            return bound[0]

        monkeypatch.setattr(Listener, "bind", overtaken)
        with pytest.raises(OSError, match="in use"):
            listening("127.0.0.1", first.getsockname()[1], Flask("x"), None)
    assert [made.fileno() for made in bound] == [-1]
