"""Many curves in one picture on Read: the address holds them, steps change them, files and sheet hold what is seen."""

import csv
import io
from urllib.parse import parse_qs, urlsplit

import numpy as np
import pytest
from werkzeug.datastructures import MultiDict

from asking import client_of
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.errors import InvalidValue
from dolce.services.read.options import MOST_COMPARED, Compared, Place, ReadOptions
from dolce.store.restoring import _moved
from dolce.web.stops.read.asked import address_of, options_of
from dolce.web.stops.read.picture import pictured
from dolce.web.stops.read.views import ReadPage

FOUR = (
    Compared(round_id=1),
    Compared(place=Place(spot=3)),
    Compared(channel="R", place=Place()),
    Compared(round_id=1, channel="R", shown=False),
)


@pytest.mark.parametrize(
    "options",
    [
        ReadOptions(),
        ReadOptions(compared=FOUR, difference_to=0, channels=("L", "R"), front="L", round_id=2, place=Place(seat=1)),
        ReadOptions(compared=(Compared(job_id=7, round_id=3),), difference_to=None, view="map", map_cycles=7.5),
        ReadOptions(levelled="at", level_hz=1234.5678, window="direct", gate_ms=3.25, smoothing="1/3"),
    ],
)
def test_the_address_holds_all_that_is_looked_at(options):
    assert options_of(MultiDict(parse_qs_list(address_of(options)))) == options


def parse_qs_list(address):
    return [(key, value) for key, values in parse_qs(address, keep_blank_values=True).items() for value in values]


def test_a_selection_of_an_earlier_version_opens_with_what_it_was_held_against():
    options = options_of(MultiDict([("round", "2"), ("vs_round", "1"), ("vs_place", "seat-4"), ("vs_channel", "R")]))
    assert options.compared == (Compared(round_id=1, place=Place(seat=4), channel="R"),)
    assert options_of(MultiDict([("vs_round", ""), ("vs_place", "same")])).compared == ()


@pytest.mark.parametrize("text", ["round-x", "at-cellar-2", "off round-1", "ch-L/R", "round-1 round-2", "with"])
def test_words_of_no_curve_are_refused(text):
    with pytest.raises(InvalidValue):
        Compared.of(text)


def test_more_curves_than_can_be_told_apart_are_refused():
    many = tuple(Compared(round_id=k) for k in range(1, MOST_COMPARED + 2))
    with pytest.raises(InvalidValue, match="in one picture"):
        ReadOptions(compared=many)


def test_steps_keep_the_curve_that_differences_are_to():
    three = ReadOptions(compared=FOUR[:3], difference_to=2)
    assert three.earlier(1).compared == (FOUR[1], FOUR[0], FOUR[2])
    assert three.earlier(1).difference_to == 1
    assert three.earlier(2).difference_to == 3
    assert three.without(0).difference_to == 1
    assert three.without(1).difference_to == 1  # it went itself: to the first beside
    assert three.without(2).difference_to == 2
    assert [one.shown for one in three.turned(1).compared] == [True, False, True]
    assert three.turned(1).beside(FOUR[1]).compared == three.turned(1).compared  # there, if not drawn


def test_every_curve_of_the_picture_is_named_and_no_two_look_alike(demo, demo_job):
    view = demo.reading.view(demo_job, ReadOptions(channels=("L",), round_id=2, compared=FOUR))
    shown = pictured(view)
    assert [one.name for one in shown] == [
        "Corrected, all seats, Left",
        "Untouched",
        "spot 3",
        "Right",
        "Untouched, Right",
    ]
    assert [one.drawn for one in shown] == [True, True, True, True, False]
    assert len({(one.colour, one.line) for one in shown}) == len(shown)
    plot = ReadPage.of(view, None).plots[0][1]
    drawn = {curve["label"]: curve for curve in plot["curves"]}
    assert set(drawn) == {"Corrected, all seats, Left", "Untouched", "spot 3", "Right"}
    # Every curve holds its own takes: the untouched round's left is nobody else's.
    untouched = demo.reading.view(demo_job, ReadOptions(channels=("L",), round_id=1)).curves[0].average.level_db
    at = np.interp(1000, ANALYSIS_GRID_HZ, untouched)
    assert np.interp(1000, plot["x"], drawn["Untouched"]["y"]) == pytest.approx(at, abs=0.05)


def test_differences_are_to_the_one_that_is_chosen_and_leave_with_it(demo, demo_job):
    options = ReadOptions(channels=("L",), round_id=2, compared=FOUR[:3], difference_to=2)
    view = demo.reading.view(demo_job, options)
    assert list(view.differences_db) == [0, 1, 3]
    (_, first, _), (_, _, _), (_, spot, _), _ = view.picture
    np.testing.assert_allclose(view.differences_db[0], first.level_db("L") - spot.level_db("L"))
    for gone in (options.turned(1), ReadOptions(channels=("L",), compared=FOUR[:1], difference_to=None)):
        assert demo.reading.view(demo_job, gone).differences_db == {}


@pytest.mark.parametrize(
    "view", ["phase", "delay", "impulse", "step", "energy", "slices", "map", "times", "distortion", "noise"]
)
def test_takes_of_several_rounds_and_spots_lie_in_one_picture_of_every_view(demo, demo_job, view):
    page = client_of(demo).get(
        f"/jobs/{demo_job}/read?view={view}&channel=L&round=2&with=round-1&with=at-spot-3&with=ch-R"
    )
    assert page.status_code == 200
    shown = demo.reading.view(demo_job, ReadOptions(view=view, channels=("L",), round_id=2, compared=FOUR[:2]))
    assert [(d.take.round_id, d.take.channel) for d in shown.details] == [(2, "L"), (1, "L"), (2, "L")]
    assert shown.details[2].take.spot_id == 3
    rows = list(csv.reader(io.StringIO(client_of(demo).get(f"/jobs/{demo_job}/read/curves.csv?view={view}").text)))
    assert rows[0][0] == "curve"
    assert len(rows) > 20


def test_what_a_curve_lacks_is_said_beside_its_name(demo, demo_job):
    asked = (Compared(round_id=99), Compared(job_id=99), Compared(channel="Ls"), Compared(job_id=2))
    view = demo.reading.view(demo_job, ReadOptions(channels=("L",), compared=asked))
    faults = [one.fault for one in view.beside]
    assert "not of this job" in faults[0]
    assert faults[1]
    assert "no usable take of Ls" in faults[2]
    assert "no usable take" in faults[3]  # a job without takes
    assert len(view.picture) == 1
    page = client_of(demo).get(f"/jobs/{demo_job}/read?channel=L&with=round-99&with=ch-Ls").text
    assert "no usable take of Ls there" in page


def test_one_curve_is_added_from_the_lists_and_steps_lead_where_they_say(demo, demo_job):
    client = client_of(demo)
    answer = client.get(f"/jobs/{demo_job}/read?channel=L&with=at-spot-2&add_round=1&add_place=spot-3&add=one")
    assert answer.status_code == 303
    asked = parse_qs(urlsplit(answer.headers["Location"]).query)
    assert asked == {"channel": ["L"], "with": ["at-spot-2", "round-1 at-spot-3"]}
    read = ReadPage.of(demo.reading.view(demo_job, ReadOptions(channels=("L",), round_id=2)), None)
    more = {name: parse_qs(address).get("with") for name, address in read.steps.more}
    assert more["every round"] == ["round-1"]
    assert more["every channel"] == ["ch-R"]
    assert len(more["every spot"]) == 9
    assert "every seat" not in more  # there is one


def test_the_csv_of_levels_has_every_curve_of_the_picture(demo, demo_job):
    client = client_of(demo)
    text = client.get(f"/jobs/{demo_job}/read/curves.csv?channel=L&round=2&with=round-1&with=at-spot-3").text
    head = next(csv.reader(io.StringIO(text)))
    assert [name for name in head if "average" in name] == [
        "L Corrected average of 9 dB",
        "L Untouched average of 9 dB",
    ]
    assert head[-1] == "L Corrected spot 3 dB"
    sheet = client.get(f"/jobs/{demo_job}/read/sheet?channel=L&round=2&with=round-1").text
    assert "each less Untouched" in sheet


def test_kept_pictures_move_with_their_rounds_and_lose_what_is_not_put_back():
    address = "round=4&with=round-3+at-seat-1&with=round-9&with=job-2+round-3&with=ch-R&minus=2"
    assert _moved(address, {"3": "13", "4": "14"}) == "round=14&with=round-13+at-seat-1&with=ch-R&minus=2"
