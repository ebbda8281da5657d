"""Pages without a browser: what they answer, and what they refuse."""

import io
import re

import numpy as np
import pytest
import soundfile

from asking import client_of, client_of_app, post
from dolce.web import create_app
from rooms import shaped_pair

STOPS = ("room", "rig", "takes", "read", "align", "shape", "load", "prove")


@pytest.fixture
def client(services):
    return client_of(services)


@pytest.fixture
def job_url(client, services):
    answer = post(client, "/jobs", htmx=False, name="Net loft", units="metres")
    assert answer.status_code == 303
    return answer.location.rsplit("/", 1)[0]


@pytest.mark.parametrize("stop", STOPS)
def test_every_stop_of_the_demo_and_of_an_empty_job_opens(demo, demo_job, client, job_url, stop):
    full = client_of(demo).get(f"/jobs/{demo_job}/{stop}")
    empty = client.get(f"{job_url}/{stop}")
    for answer in (full, empty):
        assert answer.status_code == 200
        assert "<main" in answer.text
        assert 'style="' not in answer.text


def test_pages_are_guarded(client):
    answer = client.get("/")
    policy = answer.headers["Content-Security-Policy"]
    assert "default-src 'none'" in policy
    assert "unsafe" not in policy
    assert client.get("/", headers={"Host": "evil.example"}).status_code == 400
    assert client.post("/jobs", data={"name": "x"}).status_code == 400  # no CSRF token
    assert client.get("/jobs/99/room").status_code == 404
    assert "no job 99" in client.get("/jobs/99/room").text


def test_names_typed_as_markup_stay_text(client):
    post(client, "/jobs", htmx=False, name="<script>alert(1)</script>", units="metres")
    assert "<script>alert" not in client.get("/").text


@pytest.mark.parametrize(
    ("path", "data", "message"),
    [
        ("room/size", {"length": "0.5", "width": "3", "height": "2", "temperature": "20"}, "out of range"),
        ("room/size", {"length": "1.2", "width": "3", "height": "2.5", "temperature": "20"}, "lies outside the room"),
        ("room/size", {"length": "abc", "width": "", "height": "2.5", "temperature": "20"}, "A number is needed"),
        ("room/move/L", {"x": "50", "y": "1", "z": "1"}, "lies outside the room"),
        (
            "room/spots",
            {"sheet": "spots", "pattern": "cluster", "seat": "1", "count": "2.5", "spacing": "0.2"},
            "whole number",
        ),
        (
            "rig/level",
            {"sweep_level_dbfs": "0", "sweep_seconds": "5", "microphone_gain_db": "0", "ceiling_dbfs": "-6"},
            "out of range",
        ),
        (
            "align/choose",
            {
                "trim-L": "99",
                "delay-L": "0",
                "polarity-L": "normal",
                "trim-R": "0",
                "delay-R": "x",
                "polarity-R": "normal",
            },
            "",
        ),
    ],
)
def test_faulty_forms_answer_422_with_the_reason(client, job_url, path, data, message):
    answer = post(client, f"{job_url}/{path}", **data)
    assert answer.status_code == 422
    assert message in answer.text


def test_decimal_comma_and_feet_are_understood(client, services):
    answer = post(client, "/jobs", htmx=False, name="Barn", units="feet")
    url = answer.location.rsplit("/", 1)[0]
    post(client, f"{url}/room/size", length="20,0", width="15", height="8.5", temperature="20")
    room = services.jobs.all()[0].room
    assert room.length_m == pytest.approx(20 * 0.3048)  # international foot, exact
    assert "20&#39; 0&#34;" in client.get(f"{url}/room").text


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"one word per line\n", "0 points"),
        (b"20 1\n", "1 point found"),
        (b"50 1\n20 1\n", "20 Hz follows 50 Hz"),
        (b"20 nan\n30 1\n", "not a number"),
    ],
)
def test_faulty_calibration_files_are_explained_beside_the_field(client, job_url, data, message):
    post(client, f"{job_url}/rig/microphones", name="Mic")
    answer = post(client, f"{job_url}/rig/microphones/1/curve/0", curve=(io.BytesIO(data), "cal.txt"))
    assert answer.status_code == 422
    assert message in answer.text


def test_faulty_recordings_are_explained_at_their_cell(client, job_url):
    silence = io.BytesIO()
    soundfile.write(silence, np.zeros(48_000 * 6), 48_000, format="WAV", subtype="PCM_U8")
    for data, message in ((b"", "empty"), (b"x" * 100, "not a WAV"), (silence.getvalue(), "silent")):
        answer = post(client, f"{job_url}/takes/L/1/recording", recording=(io.BytesIO(data), "take.wav"))
        assert answer.status_code == 422
        assert re.search(rf'cell-fault" role="alert">[^<]*{message}', answer.text)


def test_uploads_have_a_limit_and_say_so(services, job_url):
    app = create_app(services)
    app.config["MAX_CONTENT_LENGTH"] = 2**17
    client = client_of_app(app)
    answer = post(client, f"{job_url}/takes/L/1/recording", recording=(io.BytesIO(bytes(2**18)), "big.wav"))
    assert answer.status_code == 413
    assert "larger than 0.125 MB" in answer.text
    assert answer.headers["HX-Retarget"] == "#messages"


def test_range_upside_down_is_said_at_its_field(demo, demo_job):
    copy = demo.jobs.copy(demo_job)
    form = {
        "bass_lift_db": 0,
        "bass_cutoff_hz": 80,
        "tilt_db_per_octave": 0,
        "tilt_from_hz": 1000,
        "from_hz": 500,
        "to_hz": 50,
        "max_boost_db": 3,
        "max_cut_db": 12,
        "min_q": 1,
        "max_q": 5,
        "bands": 5,
        "anchor": "band",
        "anchor_from_hz": 200,
        "anchor_to_hz": 2000,
        "anchor_level_db": 0,
    }
    answer = post(client_of(demo), f"/jobs/{copy.id}/shape/aim", **form)
    assert answer.status_code == 422
    assert re.search(r'id="fault-to_hz">[^<]*upside down', answer.text)
    demo.jobs.delete(copy.id)


def test_second_pass_is_told_that_sound_plays_already(client, services, job_url):
    assert post(client, f"{job_url}/takes/run").status_code == 200
    answer = post(client, f"{job_url}/takes/run")
    assert answer.status_code == 409
    assert "playing already" in answer.text
    assert post(client, "/sound/stop").status_code == 200
    services.sound.wait(20)
    assert "Stopped by hand" in client.get(f"{job_url}/takes").text


def test_package_and_test_signal_download(demo, demo_job):
    client = client_of(demo)
    package = client.get(f"/jobs/{demo_job}/load/package.zip")
    assert package.data[:2] == b"PK"
    assert "attachment" in package.headers["Content-Disposition"]
    signal = client.get(f"/jobs/{demo_job}/takes/test-signal.wav")
    assert soundfile.info(io.BytesIO(signal.data)).samplerate == 48_000
    assert client.get(f"/jobs/{demo_job}/load/package.zip", headers={"Host": "x.example"}).status_code == 400


def test_edits_of_the_right_channel_stay_on_it(demo, demo_job):
    copy = demo.jobs.copy(demo_job)
    client = client_of(demo)
    last = demo.shaping.correction(copy.id).bands["R"][0].id
    for edit in ("add", f"{last}/switch/off", f"{last}/remove"):
        answer = post(client, f"/jobs/{copy.id}/shape/bands/R/{edit}")
        assert answer.status_code == 200
        assert "Bands of R" in answer.text, edit
    demo.jobs.delete(copy.id)


def test_how_a_pass_goes_is_refused_beside_its_field_and_steering_asks_for_what_is_known(client, job_url):
    answer = post(client, f"{job_url}/takes/run", wait_s="99", repeats="0", order="spot")
    assert answer.status_code == 422
    assert re.search(r'id="fault-wait_s">[^<]*out of range', answer.text)
    assert post(client, f"{job_url}/takes/pass/skip").status_code == 200
    assert post(client, f"{job_url}/takes/pass/louder").status_code == 404


def test_the_card_of_a_cell_stays_open_after_a_change_and_says_what_it_needs(demo, demo_job):
    copy = demo.jobs.copy(demo_job)
    client = client_of(demo)
    card = client.get(f"/jobs/{copy.id}/takes/L/2/cell").text
    assert "dB above noise, least" in card
    take = demo.cells.view(copy.id, "L", 2).counts
    assert "no reason was given" in post(client, f"/jobs/{copy.id}/takes/take/{take.id}/leave-out", reason="").text
    answer = post(client, f"/jobs/{copy.id}/takes/take/{take.id}/leave-out", reason="a door")
    assert "Left out of averages: a door" in answer.text
    assert "Include in averages" in answer.text
    demo.jobs.delete(copy.id)


def test_prove_looks_at_a_seat_and_every_spot_and_asks_for_what_drifted(prepared):
    for services, job_id in shaped_pair(prepared):
        client = client_of(services)
        services.loading.load(job_id, "A", "corrected")
        services.loading.switch(job_id, "A")
        services.rounds.new(job_id)
        services.taking.run_rest(job_id)
        services.sound.wait()
        seat = services.jobs.get(job_id).plan.seats[1]
        page = client.get(f"/jobs/{job_id}/prove?seat={seat.id}&spots=1&channel=R").text
        assert f"At {seat.name} alone:" in page
        assert page.count('"state": "spot"') == 2  # of the two spots of that seat
        assert f'hx-get="/jobs/{job_id}/prove/drift"' in page
        assert client.get(f"/jobs/{job_id}/prove?seat=999").status_code == 404
        drift = client.get(f"/jobs/{job_id}/prove/drift").text
        assert "Taken through different states" in drift
        rounds = {round.name: round.id for round in services.proving.drift(job_id).rounds}
        assert client.get(f"/jobs/{job_id}/prove/drift?now={rounds['Untouched']}").status_code == 200
        assert client.get(f"/jobs/{job_id}/prove/drift?now=12345").status_code == 422


@pytest.mark.parametrize(
    ("came_from", "leads_to"),
    [
        ("http://localhost{job}/room?sheet=spots", "{job}/room?sheet=spots"),
        ("", "{job}/takes"),
        ("http://evil.example/{job}/room", "{job}/takes"),
        ("http://localhost{job}/takes/nowhere", "{job}/takes"),
    ],
)
def test_an_error_leads_back_to_the_page_it_came_from(client, job_url, came_from, leads_to):
    headers = {"Referer": came_from.format(job=job_url)} if came_from else {}
    answer = client.get(f"{job_url}/takes/nowhere", headers=headers)
    assert answer.status_code == 404
    assert f'href="{leads_to.format(job=job_url)}">Back</a>' in answer.text
    assert "evil" not in answer.text
    assert ">Back</a>" not in client.get("/jobs/99/room").text
