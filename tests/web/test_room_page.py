"""The Room page: every sheet of every sample room, and what it says about bad input."""

import io
import re

import pytest

from asking import client_of
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import barn, net_loft

SHEETS = ("places", "spots", "findings", "modes", "subs", "more")


@pytest.fixture
def client(services):
    return client_of(services)


@pytest.fixture
def room_url(services):
    return f"/jobs/{services.jobs.create(JobDetails(name='Barn'), plan=barn()).id}/room"


@pytest.fixture
def post(client, room_url):
    token = re.search(r'csrf-token" content="([^"]+)', client.get("/").text)[1]

    def send(path, **data):
        return client.post(f"{room_url}/{path}", data=data, headers={"X-CSRFToken": token, "HX-Request": "true"})

    return send


@pytest.mark.parametrize("sheet", SHEETS)
@pytest.mark.parametrize("pick", ["L", "seat-2", "spot-3", "box-1", "seat-x"])
def test_every_sheet_shows_with_anything_picked(client, room_url, sheet, pick):
    answer = client.get(f"{room_url}?sheet={sheet}&pick={pick}")
    assert answer.status_code == 200
    assert 'aria-label="Plan of the room"' in answer.text


@pytest.mark.parametrize(
    "query",
    [
        "sheet=modes&mode=5&seat=3",
        "sheet=modes&mode=99999&seat=77",
        "sheet=modes&mode=x",
        "sheet=none",
        "sheet=subs&rank=1&n=2&kind=corners",
        "sheet=subs&rank=1&n=4&kind=grid",
        "sheet=subs&rank=1&n=9&aim=loudest",
        "sheet=subs&rank=1&kind=corners&without=1&without=abc&without=2",
    ],
)
def test_queries_of_all_kinds_are_answered(client, room_url, query):
    assert client.get(f"{room_url}?{query}").status_code == 200


def test_subs_without_places_say_so(client, room_url):
    assert "0 candidate places" in client.get(f"{room_url}?sheet=subs&rank=1&n=2").text


def test_equivalent_box_is_named_for_rooms_that_are_none(client, services):
    url = f"/jobs/{services.jobs.create(JobDetails(name='Loft'), plan=net_loft()).id}/room"
    assert "the box of equal volume" in client.get(f"{url}?sheet=modes").text
    assert "Eyring, s" in client.get(f"{url}?sheet=modes").text
    assert 'data-thing="corner-5"' in client.get(url).text


@pytest.mark.parametrize(
    ("path", "data", "message"),
    [
        ("move/L", {"x": "99", "y": "1", "z": "1"}, "lies outside the room"),
        ("move/L", {"x": "wide", "y": "1", "z": "1"}, "A number is needed"),
        ("move/L", {"x": "3.10", "y": "0.55", "z": "0.85"}, "stands there already"),
        ("move/seat-1", {"x": "3", "y": "-2", "z": "1"}, "lies outside the room"),
        ("size", {"length": "500", "width": "6", "height": "3", "temperature": "20"}, "out of range"),
        ("size", {"length": "0.5", "width": "6", "height": "3", "temperature": "20"}, "out of range"),
        ("size", {"length": "7.0", "width": "6.2", "height": "3.6", "temperature": "20"}, "lies outside the room"),
        ("speakers/L", {"aim": "angle", "toe_in": "x", "source": "point", "output": "1"}, "A number is needed"),
        (
            "speakers/L",
            {"aim": "straight", "source": "point", "output": "2", "low_limit": "", "toe_in": "0"},
            "both hang on output 2",
        ),
        ("channels", {"code": "9 x", "channel_name": "?"}, "be a channel code"),
        ("channels", {"code": "L", "channel_name": ""}, "is there already"),
        ("seats/2", {"sheet": "spots", "name": "", "weight": "1"}, "a seat needs a name"),
        ("seats/2", {"sheet": "spots", "name": "A", "weight": "heavy"}, "Weight: A number is needed"),
        ("seats/1", {"sheet": "spots", "name": "A", "weight": "1"}, "Make another seat the main one"),
        ("spots", {"sheet": "spots", "pattern": "star", "seat": "1", "count": "3", "spacing": "0.2"}, "Choose one"),
        ("spots", {"sheet": "spots", "pattern": "flat", "seat": "1", "count": "99", "spacing": "0.2"}, "out of range"),
        ("outline", {"sheet": "more", "cx": ["0", "6.2", "6.2", "0"], "cy": ["0", "8.6", "0", "8.6"]}, "meet or cross"),
        ("reverberation", {"sheet": "modes", "decay_source": "typed", "typed_s": "99"}, "out of range"),
        ("reverberation", {"sheet": "modes", "decay_source": "surfaces", "surface-0": "moss"}, "not in the table"),
        ("findings/dismiss", {"sheet": "findings", "key": "x", "reason": ""}, ""),
    ],
)
def test_faulty_input_is_answered_beside_its_field_and_changes_nothing(
    client, services, post, room_url, path, data, message
):
    before = services.jobs.all()[0].plan
    answer = post(path, **data)
    assert answer.status_code == 422
    assert message in answer.text
    assert services.jobs.all()[0].plan == before


@pytest.mark.parametrize(
    ("data", "message"),
    [
        ((io.BytesIO(b"{}"), "room.json"), "is a required property"),
        ((io.BytesIO(b"x"), "room.csv"), "no column kind"),
        ((io.BytesIO(b""), ""), "no file was chosen"),
    ],
)
def test_faulty_files_are_explained_beside_the_chooser(post, data, message):
    answer = post("file", sheet="more", file=data)
    assert answer.status_code == 422
    assert message in answer.text


def test_things_that_are_gone_answer_with_a_message(post):
    for path in (
        "move/Xy",
        "spots/99/remove",
        "seats/99/remove",
        "boxes/99/remove",
        "outline/corners/9/add",
        "channels/Zz/remove",
    ):
        assert post(path, x="1", y="1", z="1").status_code == 404, path


def test_what_if_answers_with_figures_and_keeps_nothing(services, post):
    before = services.jobs.all()[0].plan
    answer = post("what-if", thing="L", dragged="1", x="1.6", y="1.2", z="1.25", sheet="findings")
    assert answer.status_code == 200
    assert "Would move" in answer.text
    assert 'id="finding-list"' in answer.text
    assert '"R": [4.6, 1.2, 1.25]' in answer.text  # the mirrored partner
    assert "lies outside" in post("what-if", thing="L", dragged="1", x="-1", y="1.2", z="1").text
    assert services.jobs.all()[0].plan == before


def test_downloads_and_the_sheet_to_print(client, room_url):
    assert client.get(f"{room_url}/room.json").json["format"] == "dolce room"
    assert client.get(f"{room_url}/places.csv").text.startswith("kind,code,name,x_m,y_m,z_m\n")
    assert client.get(f"{room_url}/schema.json").json["title"] == "A room"
    drawing = client.get(f"{room_url}/plan.svg")
    assert drawing.mimetype == "image/svg+xml"
    assert "var(--" not in drawing.text  # stands alone
    assert drawing.text.count('class="thing spot"') == 24
    sheet = client.get(f"{room_url}/spot-sheet").text
    assert len(re.findall(r"<tr><th>\d+</th>", sheet)) == 24
    assert "data-thing" not in sheet


def test_feet_and_inches_stand_everywhere_and_are_kept(client, services):
    job_id = services.jobs.create(JobDetails(name="Feet", units="feet"), plan=barn()).id
    for sheet in SHEETS:
        page = re.sub(r"<[^>]+>", " ", client.get(f"/jobs/{job_id}/room?sheet={sheet}&pick=L").text)
        assert not re.search(r"\d m\b(?!s)", page), sheet
    assert "3&#39; 9.3&#34;" in client.get(f"/jobs/{job_id}/room").text  # 1.15 m
