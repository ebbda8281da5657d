"""Rooms as JSON and places as CSV, both ways."""

import contextlib
import json
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from dolce.core.geometry import Point, RoomSize
from dolce.core.room import Box, new_plan, numbered, spots_by_pattern
from dolce.core.room.plan import BOX_KINDS
from dolce.errors import DolceError, FormatError
from dolce.formats.csv_text import harmless, original
from dolce.formats.places_csv import COLUMNS, read_places, write_places
from dolce.formats.room_json import SCHEMA, read_room, write_room
from dolce.services.sample.demo_rooms import attic, barn, net_loft

PLANS = [attic(), net_loft(), barn(), new_plan(RoomSize(length_m=6.1, width_m=4.3, height_m=2.6), layout="9.1.6")]


@pytest.mark.parametrize("plan", PLANS)
def test_rooms_come_back_as_they_were_written(plan):
    assert read_room(write_room(plan), name="room.json") == plan
    assert read_places(write_places(plan), plan, name="places.csv") == plan


def test_schema_is_valid_and_complete():
    Draft202012Validator.check_schema(SCHEMA)
    written = json.loads(write_room(net_loft()))
    assert set(written) == set(SCHEMA["properties"])
    assert set(written["speakers"][0]) == set(SCHEMA["$defs"]["speaker"]["properties"])
    assert set(SCHEMA["properties"]["drawings"]["items"]["properties"]["kind"]["enum"]) == set(BOX_KINDS)


def changed(path, value):
    """The attic's document with one value changed; the path goes through keys and numbers."""
    values = json.loads(write_room(attic()))
    place = values
    for key in path[:-1]:
        place = place[key]
    place[path[-1]] = value
    return json.dumps(values).encode()


@pytest.mark.parametrize(
    ("data", "where", "message"),
    [
        (b"", "line 1", "not JSON"),
        (b"\xff\xfe", "room.json", "not text"),
        (b"{\n\n1}", "line 3", "not JSON"),
        (b"[" * 100_000, "room.json", "not JSON"),
        (b'{"a": NaN}', "room.json", "NaN is not a number"),
        (b"{}", "the whole", "is a required property"),
        (b"[]", "the whole", "not of type 'object'"),
        (changed(["version"], 9), "version", "1 was expected"),
        (changed(["extra"], 1), "the whole", "extra"),
        (changed(["room", "length_m"], 500), "room, length_m", "500 is greater than the maximum of 30"),
        (changed(["room", "width_m"], 0.5), "room, width_m", "less than the minimum of 1"),
        (changed(["speakers", 1, "x_m"], "left"), "speakers, entry 2, x_m", "is not of type 'number'"),
        (changed(["speakers", 0, "channel"], "Zz"), "speakers", "'Zz' is not a known channel"),
        (changed(["layout"], "6.3"), "layout", "is not one of"),
        (changed(["speakers", 0, "x_m"], 99), "speaker L", "lies outside the room"),
        (changed(["speakers", 1, "output"], 1), "output", "both hang on output 1"),
        (changed(["seats", 0, "y_m"], -1), "Mixer", "lies outside the room"),
        (changed(["outline"], [[0, 0], [3.7, 4.6], [3.7, 0], [0, 4.6]]), "outline", "meet or cross"),
        (changed(["seats", 0, "is_main"], False), "seats", "0 main seats"),
        (b" " * 1_000_001, "room.json", "1,000,001 bytes"),
    ],
)
def test_faulty_rooms_are_refused_with_entry_and_reason(data, where, message):
    with pytest.raises(FormatError) as caught:
        read_room(data, name="room.json")
    assert where in caught.value.where
    assert message in caught.value.problem


HEAD = ",".join(COLUMNS).encode() + b"\n"


@pytest.mark.parametrize(
    ("data", "where", "message"),
    [
        (b"", "line 1", "no column kind"),
        (b"a,b\n1,2\n", "line 1", "no column kind, code, x_m, y_m, z_m"),
        (HEAD + b"speaker,L,,1,2\n", "line 2", "no three numbers"),
        (HEAD + b"speaker,L,,1,two,1\n", "line 2", "no three numbers"),
        (HEAD + b"\nspeaker,Q,,1,2,1\n", "line 3", "no speaker 'Q'"),
        (HEAD + b"lamp,1,,1,2,1\n", "line 2", "'lamp'"),
        (HEAD + b"seat,1,,1,2,99\n", "line 2", "lies outside the room"),
        (HEAD + b"spot,x,,1,2,1\n", "line 2", "no spot"),
        (HEAD + b"speaker,L,,inf,2,1\n", "line 2", "no three numbers"),
        (b"\xff\xff", "places.csv", "not a table"),
    ],
)
def test_faulty_places_are_refused_with_their_line(data, where, message):
    with pytest.raises(FormatError) as caught:
        read_places(data, attic(), name="places.csv")
    assert where in caught.value.where
    assert message in caught.value.problem


def test_a_place_of_what_is_not_there_says_what_there_is_or_what_to_correct():
    for line, remedy in (
        (b"speaker,Q,,1,2,1\n", "Use L, R."),
        (b"seat,7,,1,2,1\n", "Use 1."),
        (b"spot,x,,1,2,1\n", "Use 1, 2, 3, 4, 5, 6, 7, 8, 9."),
        (b"drawing,7,,1,2,1\n", "Leave the line out."),
    ):
        with pytest.raises(FormatError) as caught:
            read_places(HEAD + line, replace(attic(), boxes=()), name="places.csv")
        assert caught.value.remedy == remedy


def test_places_in_any_order_of_columns_move_only_what_they_name():
    plan = attic()
    moved = read_places("z_m,code,kind,y_m,x_m\r\n1.3,R,speaker,0.7,2.7\r\n".encode("utf-8-sig"), plan, name="p.csv")
    assert moved == plan.replaced(replace(plan.speaker("R"), place=Point(x_m=2.7, y_m=0.7, z_m=1.3)))


@given(st.binary(max_size=300))
@settings(max_examples=60)
def test_any_bytes_give_a_room_or_a_clear_error(data):
    for start in (b"", b'{"format": "dolce room", ', HEAD, HEAD + b"speaker,L,,"):
        for read in (lambda d: read_room(d, name="f"), lambda d: read_places(d, PLANS[0], name="f")):
            with contextlib.suppress(DolceError):
                read(start + data)


@given(
    st.floats(2.5, 12),
    st.floats(2.5, 12),
    st.floats(2, 5),
    st.sampled_from(["1.0", "3.1", "7.1.2", "9.1.6"]),
    st.integers(0, 4),
    st.sampled_from(BOX_KINDS),
    st.text(max_size=20, alphabet=st.characters(exclude_categories=("Cs", "Cc"), exclude_characters="\ufffe\uffff")),
)
@settings(max_examples=40)
def test_any_room_is_read_back(length, width, height, layout, subs, kind, name):
    plan = new_plan(RoomSize(length_m=length, width_m=width, height_m=height), layout=layout, subs=subs)
    plan = replace(
        plan,
        boxes=(Box(id=1, kind=kind, name=name, place=plan.main_seat.place, width_m=0.5, depth_m=0.5, height_m=0.3),),
        spots=numbered(plan, spots_by_pattern(plan, "layered", seat_id=1, count=5, spacing_m=0.2)),
    )
    assert read_room(write_room(plan), name="room.json") == plan


def test_schema_that_is_served_is_named_in_the_docs():
    guide = (Path(__file__).parents[2] / "docs" / "room-files.md").read_text()
    for part in SCHEMA["properties"]:
        assert f"`{part}`" in guide


@given(st.text(max_size=30))
def test_any_text_in_a_cell_is_harmless_and_read_back(text):
    # OWASP, "CSV Injection": spreadsheets evaluate cells that begin with these.
    cell = harmless(text)
    assert not cell.startswith(("=", "+", "-", "@", "\t", "\r", "\n"))
    assert original(cell) == text


@pytest.mark.parametrize("first", ["=", "+", "-", "@", "\t", "\r", "\n"])  # OWASP, "CSV Injection"
def test_a_cell_that_a_spreadsheet_would_evaluate_begins_with_an_apostrophe(first):
    assert harmless(f"{first}1") == f"'{first}1"
    assert harmless(f"1{first}") == f"1{first}"


def test_names_that_spreadsheets_would_evaluate_are_written_harmless():
    plan = attic()
    first, *others = plan.seats
    named = replace(plan, seats=(replace(first, name='=HYPERLINK("http://x")'), *others))
    assert b"'=HYPERLINK" in write_places(named)
    assert b",=HYPERLINK" not in write_places(named).replace(b'"', b"")
    assert read_places(write_places(named), named, name="p.csv") == named
