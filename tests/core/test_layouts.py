"""Layouts, and laying them out in rooms."""

import csv
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from dolce.core.geometry import Point, RoomSize
from dolce.core.room import LAYOUTS, Speaker, new_plan, sights_of, with_channel, with_layout, without_channel
from dolce.errors import InvalidValue

SIZE = RoomSize(length_m=7.0, width_m=5.5, height_m=3.4)
# Labels of the systems of ITU-R BS.2051 by our codes; M is the middle layer, U the upper one.
SYSTEMS = {
    "2.0": ("0+2+0", {"L": "M+030"}),
    "5.1": ("0+5+0", {"L": "M+030", "Ls": "M+110"}),
    "5.1.2": ("2+5+0", {"L": "M+030", "Ls": "M+110", "Ltf": "U+030"}),
    "5.1.4": ("4+5+0", {"L": "M+030", "Ls": "M+110", "Ltf": "U+030", "Ltr": "U+110"}),
    "7.1": ("0+7+0", {"L": "M+030", "Ls": "M+090", "Lrs": "M+135"}),
    "7.1.4": ("4+7+0", {"L": "M+030", "Ls": "M+090", "Lrs": "M+135", "Ltf": "U+045", "Ltr": "U+135"}),
}
with (Path(__file__).parents[1] / "references" / "bs2051_angles.csv").open() as file:
    ANGLES = {
        (row["system"], row["label"]): {k: float(v) for k, v in row.items() if k.endswith("deg")}
        for row in csv.DictReader(file)
    }


@pytest.mark.parametrize("layout", SYSTEMS)
def test_angles_are_those_of_the_published_systems(layout):
    system, labels = SYSTEMS[layout]
    for code, label in labels.items():
        published, ours = ANGLES[system, label], LAYOUTS[layout][code]
        assert ours.azimuth_deg == -published["azimuth_deg"]  # they count to the left
        low, high = -published["azimuth_high_deg"], -published["azimuth_low_deg"]
        # Where they give no range we allow 3 degrees (common practice).
        assert ours.azimuth_range_deg == ((low, high) if low < high else (low - 3, high + 3))
        if label.startswith("U"):
            assert ours.elevation_range_deg == (published["elevation_low_deg"], published["elevation_high_deg"])
        right = LAYOUTS[layout][{"L": "R"}[code[0]] + code[1:]]
        assert right == ours.mirrored()


def test_every_layout_has_the_channels_its_name_counts():
    for name, channels in LAYOUTS.items():
        parts = [int(part) for part in name.split(".")]
        overhead = sum(reference.overhead for reference in channels.values())
        assert len(channels) - overhead == parts[0]
        assert overhead == (parts[2] if len(parts) > 2 else 0)


@pytest.mark.parametrize("layout", LAYOUTS)
@pytest.mark.parametrize(
    "size", [SIZE, RoomSize(length_m=3.2, width_m=2.6, height_m=2.3), RoomSize(length_m=4.5, width_m=9.0, height_m=2.6)]
)
def test_a_new_layout_stands_inside_at_its_reference_angles(layout, size):
    plan = new_plan(size, layout=layout, subs=4)
    sights = sights_of(plan)
    for k, speaker in enumerate(plan.main_channels):
        reference = LAYOUTS[layout][speaker.channel]
        # Places are rounded to a centimetre: up to 1 degree at the short distances of the smallest room.
        assert sights.azimuth_deg[k, 0] == pytest.approx(reference.azimuth_deg, abs=1.2), speaker.channel
    assert len(plan.subs) == 4
    assert len({s.output for s in plan.speakers}) == len(plan.speakers)


def test_heights_of_a_high_room_are_within_their_range():
    plan = new_plan(SIZE, layout="9.1.6")
    sights = sights_of(plan)
    up = [sights.elevation_deg[k, 0] for k, s in enumerate(plan.speakers) if s.channel[1:2] == "t"]
    assert len(up) == 6
    assert all(30 <= angle <= 55 for angle in up)


def test_changing_the_layout_keeps_places_and_brings_back_what_was_set_aside():
    plan = new_plan(SIZE, layout="7.1.4", subs=2)
    place = Point(x_m=1.0, y_m=5.9, z_m=1.4)
    plan = plan.replaced(replace(plan.speaker("Lrs"), place=place, output=31, low_limit_hz=80.0))
    smaller = with_layout(plan, "5.1", subs=1)
    assert smaller.channels == ("L", "R", "C", "Ls", "Rs", "Sub1")
    assert smaller.speaker("L") == plan.speaker("L")
    again = with_layout(smaller, "7.1.4", subs=2)
    assert again.speaker("Lrs") == plan.speaker("Lrs")
    assert {s.channel for s in again.speakers} == {s.channel for s in plan.speakers}


def test_channels_can_be_absent_added_and_named():
    plan = without_channel(new_plan(SIZE, layout="5.1"), "C")
    assert "C" not in plan.channels
    plan = with_channel(plan, "Vog", name="Voice of above")
    assert plan.speaker("Vog").title == "Voice of above"
    assert "Vog" in with_layout(plan, "2.0", subs=0).channels  # of one's own: stays with any layout
    assert "C" in with_channel(plan, "C").channels
    with pytest.raises(InvalidValue, match="there already"):
        with_channel(plan, "L")
    with pytest.raises(InvalidValue, match="can't be a channel code"):
        with_channel(plan, "9 x")


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (lambda p: {"speakers": (*p.speakers, replace(p.speakers[0], output=9))}, "there twice"),
        (lambda p: {"speakers": (p.speakers[0], replace(p.speakers[1], output=1))}, "both hang on output 1"),
        (lambda p: {"speakers": (p.speakers[0], replace(p.speakers[1], place=p.speakers[0].place))}, "stands there"),
        (lambda p: {"speakers": (replace(p.speakers[0], place=Point(x_m=9, y_m=1, z_m=1)),)}, "lies outside the room"),
        (lambda p: {"speakers": ()}, "no speaker"),
        (lambda p: {"seats": (replace(p.seats[0], is_main=False),)}, "0 main seats"),
        (lambda p: {"seats": (replace(p.seats[0], place=Point(x_m=1, y_m=-0.1, z_m=1)),)}, "y = -0.10 m lies outside"),
        (lambda p: {"spots": p.spots[1:]}, "spot 2 follows spot 0"),
        (lambda p: {"spots": (replace(p.spots[0], seat_id=7),)}, "its seat 7 is not there"),
        (lambda p: {"layout": "6.2"}, "'6.2' is not a known layout"),
        (lambda p: {"outline": ((0, 0), (5, 5), (5, 0), (0, 5))}, "meet or cross"),
        (lambda p: {"outline": ((0, 0), (1, 0), (1, 1), (0, 1))}, "lies outside the outline"),
        (
            lambda p: {
                "speakers": tuple(
                    Speaker(channel=f"X{k}", output=k + 1, place=Point(x_m=0.3 * k + 0.1, y_m=1, z_m=1))
                    for k in range(17)
                )
            },
            "17 channels",
        ),
    ],
)
def test_plans_that_cannot_be_are_refused_with_the_reason(change, message):
    plan = new_plan(SIZE)
    with pytest.raises(InvalidValue, match=message):
        replace(plan, **change(plan))


def test_arrivals_and_levels_follow_from_distances():
    plan = new_plan(SIZE, layout="2.0")
    left = plan.speaker("L")
    near = replace(left, place=Point(x_m=left.place.x_m, y_m=left.place.y_m + 0.8, z_m=left.place.z_m))
    sights = sights_of(plan.replaced(near))
    distance = sights.distance_m[:, 0]
    # 6.02 dB per doubled distance and the speed of sound, closed forms.
    assert sights.level_db[1, 0] == pytest.approx(20 * np.log10(distance[0] / distance[1]))
    assert sights.arrival_s[1, 0] == pytest.approx((distance[1] - distance[0]) / plan.speed_m_s)
