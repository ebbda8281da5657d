"""What pages must withstand: old tokens, other applications, names of all scripts, and input that is no input.

Hostile input to every address: bench/break_input.py, whose short form runs in tests/bench.
"""

import http.client
import io
import re
import threading
from xml.etree import ElementTree

import numpy as np
import pytest
import soundfile

from asking import client_of, client_of_app, post
from dolce.core.room import LAYOUT_NAMES
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.web import create_app, memory
from dolce.web.memory import is_due
from dolce.web.serving import new_server

NAMES = ["Chœur d'été", "Звукова кімната", "録音室", 'Ünïcode & <co> "quoted"', "a/b\\c: d?*|"]


@pytest.fixture
def client(services):
    return client_of(services)


@pytest.fixture
def job(services):
    return services.jobs.create(JobDetails(name="Loft"))


def test_stop_needs_no_token_and_no_page_of_this_start(services, client, job):
    services.taking.run_rest(job.id)
    answer = client.post("/sound/stop", data={"csrf_token": "of another day"}, headers={"X-CSRFToken": "old"})
    assert "Sound stopped" in answer.text
    assert services.taking.board(job.id).last_pass.state == "stopped"
    services.sound.wait(10)
    assert client.post("/sound/stop", headers={"Host": "evil.example"}).status_code == 400
    assert "Nothing was playing." in client.post("/sound/stop").text
    assert client.post(f"/jobs/{job.id}/takes/run").status_code == 400  # all else needs its token


def test_two_applications_on_one_machine_do_not_share_a_cookie(tmp_path):
    def cookie(opened) -> str:
        server = new_server(opened, port=0)
        thread = threading.Thread(target=server.run, daemon=True)
        thread.start()
        connection = http.client.HTTPConnection("127.0.0.1", int(server.effective_port), timeout=10)
        connection.request("GET", "/")
        found = connection.getresponse().headers["Set-Cookie"]
        connection.close()
        server.close()
        thread.join(5)
        opened.close()
        return found.split("=")[0]

    first, two = (cookie(open_services(tmp_path / name)) for name in ("one", "two"))
    assert first != two
    assert re.fullmatch(r"dolce-\d+-[0-9a-f]{10}", first)


@pytest.mark.parametrize("name", NAMES)
def test_downloads_bear_names_of_every_script(services, client, name):
    # RFC 6266, 4.3 with RFC 8187: the name beyond ASCII stands in filename*, percent-encoded UTF-8.
    job = services.jobs.create(JobDetails(name=name))
    for path in ("room/room.json", "room/places.csv", "room/plan.svg", "takes/test-signal.wav"):
        answer = client.get(f"/jobs/{job.id}/{path}")
        assert answer.status_code == 200
        disposition = answer.headers["Content-Disposition"]
        assert disposition.startswith("attachment; filename")
        disposition.encode("ascii")
        assert "/" not in disposition.split("filename", 1)[1].replace("UTF-8''", "")
    assert (
        "filename*=UTF-8''Ch%C5%93ur" in client.get(f"/jobs/{job.id}/room/room.json").headers["Content-Disposition"]
        or name != NAMES[0]
    )
    uploaded = (io.BytesIO(b"20 0\n20000 1\n"), name + ".txt")
    post(client, f"/jobs/{job.id}/rig/microphones", name=name)
    assert post(client, f"/jobs/{job.id}/rig/microphones/1/curve/0", curve=uploaded).status_code == 200
    assert client.get(f"/jobs/{job.id}/rig?sheet=microphones").status_code == 200


@pytest.mark.parametrize("layout", LAYOUT_NAMES)
def test_the_saved_plan_is_well_formed(services, client, layout):
    job = services.jobs.create(JobDetails(name='Loft <& "co">'))
    services.room.set_layout(job.id, layout, subs=2)
    text = client.get(f"/jobs/{job.id}/room/plan.svg").data
    root = ElementTree.fromstring(text)
    assert root.tag == "{http://www.w3.org/2000/svg}svg"
    assert root.get("role") == "img"
    assert root.get("aria-label") == 'Loft <& "co">'
    assert ".walls" in root.find("{http://www.w3.org/2000/svg}style").text
    assert len(root.findall(".//{http://www.w3.org/2000/svg}g")) >= len(services.jobs.get(job.id).channels)


def test_saved_plans_of_all_sample_jobs_are_well_formed(demo):
    for job in demo.jobs.all():
        ElementTree.fromstring(client_of(demo).get(f"/jobs/{job.id}/room/plan.svg").data)


@pytest.mark.parametrize("number", ["²", "٣", "9" * 25, str(2**63), "1" * 4400])
def test_numbers_that_are_none_are_not_found_or_refused(client, job, number):
    assert client.get(f"/jobs/{number}/room").status_code == 404
    for query in (
        f"mode={number}&sheet=modes",
        f"seat={number}&sheet=modes",
        f"without={number}&rank=1&sheet=subs",
        f"pick=spot-{number}",
        f"pick=seat-{number}",
        f"pick=box-{number}",
    ):
        assert client.get(f"/jobs/{job.id}/room?{query}").status_code == 200
    assert client.get(f"/jobs/{job.id}/read?round={number}&place=spot-{number}").status_code in (200, 404, 422)
    assert post(client, f"/jobs/{job.id}/takes/rounds/choose", round=number).status_code == 422
    assert post(client, f"/jobs/{job.id}/room/move/spot-{number}", x="1", y="1", z="1").status_code in (404, 422)
    assert post(client, f"/jobs/{job.id}/rig/level", sweep_level_dbfs=number).status_code == 422


@pytest.mark.parametrize("sheet", ["meter", "level", "spectrum"])
def test_only_readings_that_are_kept_can_be_forgotten(client, job, sheet):
    answer = post(client, f"/jobs/{job.id}/rig/live/{sheet}/forget")
    assert answer.status_code == 422
    assert "are not kept" in answer.text


def test_a_band_of_a_job_without_takes_is_told_to_be_gone(client, job):
    answer = post(client, f"/jobs/{job.id}/shape/bands/L/1")
    assert answer.status_code == 409
    assert "gone" in answer.text


def test_room_files_with_half_characters_or_endless_integers_are_refused(client, services, job):
    good = client.get(f"/jobs/{job.id}/room/room.json").text
    for bad, message in (
        (good.replace('"Seat 1"', '"\\ud800"').replace('"Mixer"', '"\\ud800"'), "half of a character"),
        (good.replace('"version": 1', f'"version": {"9" * 400}'), "has 400 digits"),
    ):
        assert bad != good
        answer = post(client, f"/jobs/{job.id}/room/file", sheet="more", file=(io.BytesIO(bad.encode()), "room.json"))
        assert answer.status_code == 422
        assert message in answer.text
    assert client.get(f"/jobs/{job.id}/room").status_code == 200
    assert services.jobs.get(job.id).plan.seats[0].name in good


def test_notes_and_other_texts_have_a_length_that_is_said(services, client, job):
    answer = post(client, f"/jobs/{job.id}/edit", htmx=False, name="Loft", notes="x" * 20_001)
    assert answer.status_code == 422
    assert "20,001 characters are too many. Use up to 20,000." in answer.text
    app = create_app(services)
    app.config["MAX_FORM_MEMORY_SIZE"] = 30_000  # 500 kB else
    answer = post(client_of_app(app), f"/jobs/{job.id}/edit", name="Loft", notes="x" * 40_000)
    assert answer.status_code == 413
    assert "A text of this form is longer than 30 kB" in answer.text


def test_reading_files_writes_nothing_into_the_logbook(demo, demo_job):
    before = demo.jobs.logbook(demo_job)
    client = client_of(demo)
    for path in (
        "load/package.zip",
        "room/room.json",
        "room/plan.svg",
        "room/places.csv",
        "takes/test-signal.wav",
        "takes/1/recording",
        "rig/rehearsal-microphone-0.txt",
        "room/spot-sheet",
    ):
        assert client.get(f"/jobs/{demo_job}/{path}").status_code == 200
    assert demo.jobs.logbook(demo_job) == before


def test_what_can_be_read_of_a_damaged_job_can_be_saved(demo, demo_job):
    import zipfile

    with client_of(demo).get(f"/jobs/{demo_job}/readable.zip") as answer:
        data = answer.data
    with zipfile.ZipFile(io.BytesIO(data)) as package:
        names = package.namelist()
        recording = next(name for name in names if name.startswith("recordings/"))
        assert soundfile.info(io.BytesIO(package.read(recording))).samplerate == 48_000
        assert b"Take of L at spot 1" in package.read("logbook.txt")
    assert {"job.txt", "plan.json", "rig.json", "processor.json"} <= set(names)


@pytest.mark.parametrize("subtype", ["PCM_U8", "ALAW", "ULAW"])
def test_copies_of_a_clean_signal_in_eight_bits_are_not_clipped(services, job, subtype):
    from dolce.services.takes.take_making import stimulus_of, sweep_of

    sweep = stimulus_of(sweep_of(services.jobs.get(job.id).rig))
    loud = sweep / np.abs(sweep).max() * 0.9
    words = {}
    for name, samples in (("clean", loud), ("clipped", np.clip(2 * loud, -1, 1))):
        out = io.BytesIO()
        soundfile.write(out, samples, 48_000, format="WAV", subtype=subtype)
        take = services.recordings.add(job.id, "L", 1, out.getvalue(), file_name="copy.wav")
        words[name] = take.quality.clipped_samples > 0
    assert words == {"clean": False, "clipped": True}


def test_a_small_file_that_unpacks_to_much_is_refused_before_it_is_read(services, job, monkeypatch):
    def unpacked(*_, **__):
        raise AssertionError("the file was unpacked")

    out = io.BytesIO()
    soundfile.write(out, np.zeros((48_000 * 61, 8), dtype="int16"), 48_000, format="FLAC")
    monkeypatch.setattr(soundfile.SoundFile, "read", unpacked)
    monkeypatch.setattr(soundfile.SoundFile, "blocks", unpacked)
    with pytest.raises(ValueError, match="lasts 61 s"):
        services.recordings.add(job.id, "L", 1, out.getvalue(), file_name="long.flac")


def test_half_open_connections_block_nobody(services):
    import socket

    server = new_server(services, port=0)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    opened = [socket.create_connection(("127.0.0.1", int(server.effective_port))) for _ in range(130)]
    for connection in opened:
        connection.sendall(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\n")  # and nothing more
    page = http.client.HTTPConnection("127.0.0.1", int(server.effective_port), timeout=20)
    page.request("GET", "/")
    assert page.getresponse().status == 200
    for connection in (*opened, page):
        connection.close()
    server.close()
    thread.join(5)


def test_a_worker_that_answers_after_the_server_was_closed_writes_into_no_file(services, tmp_path):
    server = new_server(services, port=0)
    server.close()
    files = [(tmp_path / f"{number}").open("wb") for number in range(8)]  # numbers that were given back are theirs
    server.pull_trigger()
    for file in files:
        file.close()
        assert (tmp_path / file.name).read_bytes() == b""


@pytest.mark.parametrize(
    ("younger", "sounds", "due"), [(10, False, False), (11, False, True), (11, True, False), (501, True, True)]
)
def test_full_collections_wait_while_something_sounds_but_not_for_ever(younger, sounds, due):
    assert is_due(younger, usual=10, sounds=sounds) is due


def test_memory_is_given_back_once_after_each_time_of_work(monkeypatch):
    asked, given, again = [memory.time.monotonic()], [], threading.Event()
    monkeypatch.setattr(memory, "_LOOK_S", 0.01)
    monkeypatch.setattr(memory, "_RESTED_S", 0.03)

    def give_back():
        given.append(asked[-1])
        again.set()

    monkeypatch.setattr(memory, "give_back", give_back)
    memory.give_back_at_rest(lambda: asked[-1])
    assert again.wait(20)
    again.clear()
    assert not again.wait(0.3)  # nothing was asked for since: once is enough
    asked.append(memory.time.monotonic())
    assert again.wait(20)
    assert given == asked


def test_a_stop_from_the_page_waits_for_nothing_that_it_asked_for_itself(client):
    # Where something is asked for, a stop holds for it, too; a stop alone is no such thing.
    text = post(client, "/sound/stop").text
    assert "Nothing was playing." in text
    assert "had just been asked for" not in text
