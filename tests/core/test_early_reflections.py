"""Early reflections, planted as delayed copies of a click: when, how loud, from which surface and direction."""

import numpy as np
import pytest
import scipy

from dolce.core.geometry import RoomSize
from dolce.core.reading import EARLY_DB, EARLY_MS, early_reflections, early_sound
from dolce.core.response import ImpulseResponse
from dolce.core.room import new_plan, reflections_of

RATE, ARRIVAL_S = 48_000, 0.0105


def heard(*copies, rate=RATE):
    """A click and copies of it, each (later in ms, dB), band-limited to what a loudspeaker plays."""
    sample = np.zeros(rate // 5)
    for later_ms, level_db in ((0.0, 0.0), *copies):
        at = (ARRIVAL_S + later_ms / 1000) * rate
        # A part of a sample as a sinc, so that delays are what they say.
        n = np.arange(sample.size)
        sample += 10 ** (level_db / 20) * np.sinc(n - at)
    sos = scipy.signal.butter(2, [150, 15_000], "bandpass", fs=rate, output="sos")
    return early_sound(
        ImpulseResponse(sample=scipy.signal.sosfilt(sos, sample), sample_rate_hz=rate, start_s=0.0), arrival_s=ARRIVAL_S
    )


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_reflections_are_told_with_their_time_and_level(rate):
    sound = heard((3.2, -8.0), (7.5, -14.0), (12.0, -35.0), rate=rate)
    np.testing.assert_allclose(1000 * sound.later_s, [3.2, 7.5], atol=0.06)
    np.testing.assert_allclose(sound.level_db, [-8, -14], atol=0.6)  # neighbours ring into each other a little
    # EBU Tech 3276: 10 dB below the direct sound within 15 ms.
    floor, wall = early_reflections([sound], {"floor": np.array([0.0033]), "left wall": np.array([0.0074])})
    assert (floor.surface, wall.surface) == ("floor", "left wall")
    assert floor.breaks()
    assert not wall.breaks()
    assert wall.breaks(below_db=-16)
    assert not floor.breaks(within_ms=3.0)
    assert (EARLY_DB, EARLY_MS) == (-10.0, 15.0)
    # Copies of one click are as loud in every 1/3 octave.
    assert floor.worst_db == pytest.approx(-8, abs=1.0)


def test_a_surface_is_named_where_half_of_the_spots_show_it_and_a_strong_stranger_is_listed_without_a_name():
    spots = [heard((4.0 + 0.2 * k, -9.0), (9.0, -12.0)) for k in range(4)]
    expected = np.array([0.004 + 0.0002 * k for k in range(4)])
    found = early_reflections(spots, {"ceiling": expected, "back wall": np.full(4, 0.0065)})
    assert [(r.surface, r.spots, r.of_spots) for r in found] == [("ceiling", 4, 4), ("", 4, 4)]
    assert found[0].expected_s == pytest.approx(expected.mean())
    assert found[1].expected_s is None
    few = [heard((4.0, -9.0)), heard(), heard(), heard()]
    assert not [r for r in early_reflections(few, {"ceiling": np.full(4, 0.004)}) if r.surface]
    unreached = early_reflections(few, {"Desk": np.array([0.004, np.inf, np.inf, np.inf])})
    assert [(r.surface, r.of_spots) for r in unreached if r.surface] == [("Desk", 1)]


def _of_plan(turned_deg=0.0):
    """The left wall's reflection at five spots of a seat, by the plan's mirror image, or one turned around them."""
    plan = new_plan(RoomSize(length_m=5.4, width_m=4.2, height_m=2.6), layout="2.0", subs=0)
    middle = plan.seats[0].place
    listeners = [
        type(middle)(x_m=middle.x_m + dx, y_m=middle.y_m + dy, z_m=middle.z_m)
        for dx, dy in ((0, 0), (0.25, 0.1), (-0.25, 0.15), (0.1, -0.3), (-0.1, 0.3))
    ]
    expected = reflections_of(plan, listeners=listeners)
    wall = expected.boundaries.index("left wall")
    cos, sin = np.cos(np.radians(turned_deg)), np.sin(np.radians(turned_deg))
    turn = np.array([[cos, -sin, 0], [sin, cos, 0], [0, 0, 1]])
    image = middle.as_array() + turn @ (expected.image_m[wall, 0] - middle.as_array())
    places = np.array([p.as_array() for p in listeners])
    later = (np.linalg.norm(places - image, axis=1) - expected.direct_m[0]) / plan.speed_m_s
    sounds = [heard((1000 * float(t), -8.0)) for t in later]
    planned = (expected.reflected_m[wall, 0] - expected.direct_m[0]) / plan.speed_m_s
    return early_reflections(
        sounds,
        {"left wall": planned},
        places_m=places,
        from_m={"left wall": np.repeat(expected.image_m[wall, 0][None], 5, axis=0)},
        direct_s=expected.direct_m[0] / plan.speed_m_s,
        speed_m_s=plan.speed_m_s,
    )


def test_the_direction_follows_from_the_arrivals_at_several_spots():
    (right,) = _of_plan()
    assert right.surface == "left wall"
    assert right.off_deg == pytest.approx(0, abs=4)
    (turned,) = _of_plan(turned_deg=12)  # at the same time, from elsewhere
    assert turned.off_deg == pytest.approx(12, abs=4)


def test_three_spots_or_spots_in_a_line_tell_no_direction():
    sounds = [heard((4.0, -8.0))] * 4
    line = np.array([[0.2 * k, 1.0, 1.2] for k in range(4)])
    given = {"direct_s": np.full(4, 0.005), "from_m": {"floor": np.zeros((4, 3))}}
    (found,) = early_reflections(sounds, {"floor": np.full(4, 0.004)}, places_m=line, **given)
    assert found.off_deg is None


def test_where_a_reflection_touches_lies_on_its_surface_and_halves_the_angle():
    plan = new_plan(RoomSize(length_m=5.4, width_m=4.2, height_m=2.6), layout="2.0", subs=0)
    found = reflections_of(plan)
    floor, speaker, seat = found.boundaries.index("floor"), plan.speakers[0].place, plan.seats[0].place
    touch = found.bounce_m[floor, 0, 0]
    assert touch[2] == pytest.approx(0, abs=1e-9)
    way = np.linalg.norm(touch - speaker.as_array()) + np.linalg.norm(touch - seat.as_array())
    assert way == pytest.approx(found.reflected_m[floor, 0, 0])  # Fermat: the shortest way over the floor
