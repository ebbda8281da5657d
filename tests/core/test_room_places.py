"""Moving things, spots and their order, outlines, and places for subs."""

from dataclasses import replace
from itertools import pairwise, permutations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dolce.core.geometry import (
    Point,
    RoomSize,
    checked_outline,
    distance_m,
    inside_outline,
    outline_area_m2,
    outline_length_m,
)
from dolce.core.room import (
    PATTERNS,
    Reverberation,
    Seat,
    box_model,
    candidates_of,
    decay_of,
    moved,
    new_plan,
    numbered,
    rank_sub_places,
    rows_of,
    spot_warnings,
    spots_by_pattern,
)
from dolce.core.room.surfaces import SURFACES
from dolce.errors import InvalidValue, NotFound

SIZE = RoomSize(length_m=7.0, width_m=5.0, height_m=2.8)


def seated(*seats):
    plan = replace(new_plan(SIZE, layout="5.1", subs=2), spots=())
    return replace(
        plan,
        seats=tuple(
            Seat(id=k, name=f"Seat {k}", is_main=k == 1, place=Point(x_m=x, y_m=y, z_m=z))
            for k, (x, y, z) in enumerate(seats, 1)
        ),
    )


TWO_ROWS = seated((2.5, 2.8, 1.1), (1.6, 2.9, 1.1), (3.4, 2.8, 1.1), (1.9, 4.4, 1.4), (3.1, 4.4, 1.4))


def test_pairs_move_mirrored_when_asked():
    plan = replace(TWO_ROWS, mirror_pairs=True)
    there = moved(plan, "Ls", Point(x_m=0.8, y_m=4.0, z_m=1.5))
    assert there.speaker("Rs").place == Point(x_m=4.2, y_m=4.0, z_m=1.5)
    assert there.speaker("C") == plan.speaker("C")
    alone = moved(replace(plan, mirror_pairs=False), "Ls", Point(x_m=0.8, y_m=4.0, z_m=1.5))
    assert alone.speaker("Rs") == plan.speaker("Rs")


def test_a_seat_takes_its_spots_along_and_keeps_them_inside():
    plan = replace(
        TWO_ROWS, spots=numbered(TWO_ROWS, spots_by_pattern(TWO_ROWS, "cluster", seat_id=2, count=5, spacing_m=0.3))
    )
    there = moved(plan, "seat-2", plan.seat(2).place.along(x_m=-1.4))
    assert there.spots[0].place.x_m == pytest.approx(plan.spots[0].place.x_m - 1.4)
    assert min(s.place.x_m for s in there.spots) == 0.1
    with pytest.raises(InvalidValue, match=r"Seat 2: x = -0\.40"):
        moved(plan, "seat-2", plan.seat(2).place.along(x_m=-2))
    with pytest.raises(NotFound):
        moved(plan, "spot-99", plan.spots[0].place)


def test_patterns():
    flat = spots_by_pattern(TWO_ROWS, "flat", seat_id=1, count=7, spacing_m=0.25)
    assert {p.z_m for _, p in flat} == {1.1}
    assert all(distance_m(p, flat[0][1]) == pytest.approx(0.25, abs=0.01) for _, p in flat[1:])
    layered = spots_by_pattern(TWO_ROWS, "layered", seat_id=1, count=9, spacing_m=0.25)
    assert {round(p.z_m - 1.1, 2) for _, p in layered} == {-0.15, 0.0, 0.15}  # 15 cm: common practice
    four = spots_by_pattern(TWO_ROWS, "layered", seat_id=1, count=9, spacing_m=0.25, layers=4, layer_m=0.1)
    assert {round(p.z_m - 1.1, 2) for _, p in four} == {-0.15, -0.05, 0.0, 0.05, 0.15}  # and the seat's own height
    with pytest.raises(InvalidValue, match="layers"):
        spots_by_pattern(TWO_ROWS, "layered", seat_id=1, count=9, spacing_m=0.25, layers=7)
    row = spots_by_pattern(TWO_ROWS, "row", seat_id=2, count=2, spacing_m=0.2)
    assert sorted({seat for seat, _ in row}) == [1, 2, 3]
    rows = spots_by_pattern(TWO_ROWS, "rows", seat_id=1, count=1, spacing_m=0.2)
    assert {seat: p.z_m for seat, p in rows} == {1: 1.1, 2: 1.1, 3: 1.1, 4: 1.4, 5: 1.4}
    assert [[s.id for s in r] for r in rows_of(TWO_ROWS.seats)] == [[2, 1, 3], [4, 5]]
    with pytest.raises(InvalidValue, match="not a pattern"):
        spots_by_pattern(TWO_ROWS, "spiral", seat_id=1, count=3, spacing_m=0.2)


@given(st.sampled_from(list(PATTERNS)), st.integers(1, 25), st.floats(0.05, 1.5))
@settings(max_examples=40)
def test_every_pattern_stays_inside_and_starts_at_the_main_seat(pattern, count, spacing_m):
    placed = spots_by_pattern(TWO_ROWS, pattern, seat_id=1, count=min(count, 12), spacing_m=spacing_m)
    spots = numbered(TWO_ROWS, placed)
    assert [s.number for s in spots] == list(range(1, len(spots) + 1))
    assert spots[0].seat_id == 1
    assert spots[0].place == TWO_ROWS.main_seat.place
    replace(TWO_ROWS, spots=spots)  # valid: nothing outside


def test_walk_is_nearly_the_shortest_there_is():
    # Against every order of eight places: the way is at most a tenth longer than the best.
    rng = np.random.default_rng(4)
    for _ in range(4):
        placed = [(1, TWO_ROWS.main_seat.place)] + [
            (1, Point(x_m=x, y_m=y, z_m=1.1)) for x, y in rng.uniform(0.5, 4.5, (7, 2)).round(2)
        ]
        walk = sum(distance_m(a.place, b.place) for a, b in pairwise(numbered(TWO_ROWS, placed)))
        best = min(
            sum(distance_m(a, b) for a, b in pairwise((placed[0][1], *way)))
            for way in permutations([p for _, p in placed[1:]])
        )
        assert walk <= best * 1.1


def test_warnings_follow_common_practice():
    plan = replace(
        TWO_ROWS,
        spots=numbered(
            TWO_ROWS,
            [(1, TWO_ROWS.main_seat.place), (1, Point(x_m=0.3, y_m=2.8, z_m=1.1)), (4, TWO_ROWS.seat(4).place)],
        ),
    )
    found = {(w.kind, w.about): w for w in spot_warnings(plan)}
    assert found["wall", "left wall"].found_m == pytest.approx(0.3)
    assert ("spread", "Seat 4") in found
    near = plan.replaced(replace(plan.speaker("C"), place=Point(x_m=2.5, y_m=2.0, z_m=1.1)))
    assert any(w.about == "C" and w.limit_m == 1.0 for w in spot_warnings(near))
    line = near.replaced(replace(near.speaker("L"), source="line"))
    assert any(w.about == "L" and w.limit_m == 3.0 for w in spot_warnings(line))


L_SHAPE = ((0.0, 0.0), (5.0, 0.0), (5.0, 3.0), (3.0, 3.0), (3.0, 7.0), (0.0, 7.0))


def test_outlines():
    assert outline_area_m2(L_SHAPE) == pytest.approx(5 * 3 + 3 * 4)
    assert outline_length_m(L_SHAPE) == pytest.approx(24)
    inside = inside_outline(L_SHAPE, np.array([1, 4, 4, 2.9]), np.array([6, 2, 4, 6.9]))
    assert inside.tolist() == [True, True, False, True]
    plan = replace(new_plan(SIZE), outline=())
    with pytest.raises(InvalidValue, match="lies outside the outline"):
        moved(replace(plan, outline=L_SHAPE), "R", Point(x_m=4.5, y_m=5, z_m=1))
    box = box_model(replace(plan, outline=L_SHAPE))
    assert box.volume_m3 == pytest.approx(27 * 2.8)  # equal volume
    assert box.is_equivalent
    assert not box_model(plan).is_equivalent


@pytest.mark.parametrize(
    "corners",
    [
        ((0, 0), (5, 7), (5, 0), (0, 7)),
        ((0, 0), (5, 0), (2, 0), (5, 7)),
        ((0, 0), (5, 0), (5, 0), (0, 7)),
        ((0, 0), (5, 0), (5, 7), (2, 0), (0, 7)),
        ((0, 0), (5, 7)),
        ((0, 0), (9, 0), (5, 7)),
        ((0, 0), (0.5, 0), (0.5, 0.5)),
    ],
)
def test_outlines_that_cross_touch_or_leave_the_room_are_refused(corners):
    with pytest.raises(InvalidValue):
        checked_outline(corners, width_m=5.0, length_m=7.0)


def test_decay_from_surfaces_is_longer_by_sabine_than_by_eyring():
    hard = dict.fromkeys(SURFACES, "rendered brick")
    soft = dict.fromkeys(SURFACES, "mineral wool 50 mm")
    decays = [
        decay_of(replace(new_plan(SIZE), reverberation=Reverberation(source="surfaces", surfaces=s)))
        for s in (hard, soft)
    ]
    for decay in decays:
        assert all(s > e for s, e in zip(decay.sabine_s, decay.eyring_s, strict=True))
    assert decays[0].low_s > 5 * decays[1].low_s
    with pytest.raises(InvalidValue, match="not in the table"):
        Reverberation(source="surfaces", surfaces={**hard, "floor": "moss"})


def test_subs_in_all_four_corners_sound_alike_at_mirrored_seats():
    # Symmetry: subs mirrored over both middle lines drive only modes that are even over both, which are alike at seats
    # that mirror each other (Welti, AES 112th, 2002).
    plan = seated((1.5, 2.5, 1.2), (3.5, 2.5, 1.2), (1.5, 4.5, 1.2), (3.5, 4.5, 1.2))
    corners = candidates_of(plan, ["corners"])
    first, four = (rank_sub_places(plan, corners, subs=n) for n in (1, 4))
    assert four.tried == 1
    assert four.best[0].spread_db == pytest.approx(0, abs=1e-6)
    assert first.best[0].spread_db > 3
    # Together they also play louder than one.
    assert four.best[0].output_db > first.best[0].output_db


def test_ranking_finds_the_best_of_all_choices_and_is_the_same_again():
    plan = seated((2.0, 2.8, 1.2), (3.4, 3.6, 1.2))
    candidates = candidates_of(plan, ["corners", "middles"])
    ranking = rank_sub_places(plan, candidates, subs=2, aim="flat response", keep=28)
    assert ranking.tried == len(ranking.best) == 28  # 8 over 2
    costs = [0.35 * a.spread_db + 1.0 * a.unevenness_db - 0.05 * a.output_db for a in ranking.best]
    assert costs == sorted(costs)
    again = rank_sub_places(plan, candidates, subs=2, aim="flat response")
    assert again.best[0].candidates == ranking.best[0].candidates
    present = ranking.present
    assert present.spread_db == pytest.approx(
        np.sqrt(np.mean((present.level_db - present.level_db.mean(axis=0)) ** 2, axis=0)).mean()
    )
    loud = rank_sub_places(plan, candidates, subs=2, aim="most output").best[0]
    assert loud.output_db >= ranking.best[0].output_db


def test_rankings_that_cannot_be_are_refused():
    plan = seated((2.0, 2.8, 1.2))
    grid = candidates_of(plan, ["grid"], grid_m=0.6)
    with pytest.raises(InvalidValue, match="choices"):
        rank_sub_places(plan, grid, subs=4)
    with pytest.raises(InvalidValue, match="candidate places for 3 subs"):
        rank_sub_places(plan, grid[:2], subs=3)
    with pytest.raises(InvalidValue, match="weight above 0"):
        rank_sub_places(replace(plan, seats=(replace(plan.seats[0], weight=0),)), grid[:4], subs=1)


def test_subs_of_a_new_plan_stand_at_the_middles_of_the_walls_and_clear_of_them():
    # Middles of walls: T. Welti, "How many subwoofers are enough", AES 112th Convention (2002).
    size = RoomSize(length_m=6.0, width_m=4.8, height_m=2.6)
    places = [(s.place.x_m, s.place.y_m) for s in new_plan(size, layout="2.0", subs=4).subs]
    assert places == [(2.4, 0.4), (2.4, 5.6), (0.4, 3.0), (4.4, 3.0)]
