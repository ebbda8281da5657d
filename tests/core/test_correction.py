from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest
from numpy.testing import assert_allclose

from dolce.core.alignment import ChannelReading, Match, table_of_arrivals
from dolce.core.correction import (
    QUICK,
    THOROUGH,
    Limits,
    Needs,
    Overruled,
    Target,
    anchored_level_db,
    deviation_db,
    fit_bands,
    headroom_of,
    judge,
    plan_as_corrected,
    plan_correction,
)
from dolce.core.correction.band_rows import KIND, LOW_SHELF, rows_of
from dolce.core.correction.fit_problem import FitProblem
from dolce.core.correction.fit_search import _child, _of_use, best_bands, one_by_one
from dolce.core.filters import BandFilter, chain_level_db
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.tuning import objections_to
from dolce.errors import InvalidValue
from rooms import BRIEF

FLAT = np.zeros(GRID.size)
WIDE = np.geomspace(5, 22_000, 3000)


def bump(at_hz, height_db, octaves):
    """A hill or dip over log frequency."""
    return height_db * np.exp(-((np.log2(GRID / at_hz) / octaves) ** 2))


def needs_of(level_db, spread_db=FLAT):
    """Two spots that differ from the level by the spread to either side, at the level of the target already."""
    return Needs(error_db=-np.array([level_db + spread_db, level_db - spread_db]), weight=np.array([0.5, 0.5]))


def planned(level_db, *, spread_db=FLAT, limits=None, overruled=()):
    return plan_correction(GRID, needs_of(level_db, spread_db), FLAT, limits=limits or Limits(), overruled=overruled)


def fitted(level_db, *, spread_db=FLAT, limits=None, effort=QUICK):
    limits = limits or Limits()
    plan = planned(level_db, spread_db=spread_db, limits=limits)
    return plan, fit_bands(plan, limits=limits, sample_rate_hz=48_000, effort=effort).filters


def mean_200_2000(filters):
    at = np.geomspace(200, 2000, 400)
    return chain_level_db(filters, at_hz=at, sample_rate_hz=48_000).mean()


ROOMS = {
    "resonances": bump(45, 9, 0.2) + bump(110, 6, 0.15) + bump(230, -5, 0.4) + bump(400, 4, 0.3),
    "weak bass": bump(60, -12, 1.0),
    "tilted": 6 - 2.0 * np.log2(np.maximum(GRID, 20) / 60),
    "at the edge": bump(500, 8, 0.5),
    "random": np.convolve(np.random.default_rng(5).normal(0, 14, GRID.size), np.ones(12) / 12, "same"),
}


@pytest.mark.parametrize("room", ROOMS)
@pytest.mark.parametrize(
    "limits",
    [
        Limits(),
        Limits(max_boost_db=6, from_hz=30, to_hz=300, bands=5),
        Limits(max_boost_db=0),
        Limits(max_cut_db=4),
        Limits(from_hz=20, to_hz=20_000, bands=12),
    ],
)
def test_limits_hold_for_the_sum_of_all_bands(room, limits):
    # What the correction promises: boost (also relative to its own mean over 200-2000 Hz, but for half a dB), the level
    # kept within a dB, and quiet outside the range.
    _, filters = fitted(ROOMS[room], limits=limits, effort=BRIEF)
    total = chain_level_db(filters, at_hz=WIDE, sample_rate_hz=48_000)
    # 0.02 dB: the limits are checked on a grid of 288 points per octave.
    assert total.max() <= limits.max_boost_db + 0.02
    assert total.max() - min(0, mean_200_2000(filters)) <= limits.max_boost_db + 0.55
    assert mean_200_2000(filters) >= -0.95
    # 0.1 dB: a cut of Q 10 can be deepest between two points of that grid.
    assert total.min() >= -limits.max_cut_db - 0.1
    # Quiet from half an octave outside the range on; up to 3 dB more right beside it, where bands have their skirts. An
    # end that reaches as far as is heard is open: a shelf may end it, which at the bottom only cuts.
    off = np.maximum(np.log2(limits.from_hz / WIDE), np.log2(WIDE / limits.to_hz))
    quiet = 0.32 + 3.0 * np.clip(1 - off / 0.5, 0, 1) ** 2
    top, bottom = (limits.to_hz < WIDE) & (limits.to_hz >= 15_000), (limits.from_hz > WIDE) & (limits.from_hz <= 25)
    assert np.all(total[(off > 0) & ~top] <= quiet[(off > 0) & ~top])
    assert np.all(-total[(off > 0) & ~top & ~bottom] <= quiet[(off > 0) & ~top & ~bottom])
    assert all(f.gain_db < 0 for f in filters if f.kind == "low shelf")
    # No two bands cancel each other: they take from each other no more than half of what the stronger one does alone,
    # in dB over octaves (rounding and shrinking gains may add a little).
    alone = np.abs([chain_level_db([f], at_hz=WIDE, sample_rate_hz=48_000) for f in filters if f.kind == "peaking"])
    gains = [f.gain_db for f in filters if f.kind == "peaking"]
    for item, other in combinations(range(len(gains)), 2):
        if gains[item] * gains[other] < 0:
            common = np.trapezoid(np.minimum(alone[item], alone[other]), np.log2(WIDE))
            assert common <= 0.55 * max(np.trapezoid(alone[k], np.log2(WIDE)) for k in (item, other))
    assert len(filters) <= limits.bands


def test_a_resonance_made_by_a_known_filter_is_undone_by_its_opposite():
    # Closed form: the Cookbook's peaking filter with the opposite gain is its inverse.
    made = BandFilter(frequency_hz=63, gain_db=6, q=3)
    level = chain_level_db([made], at_hz=GRID, sample_rate_hz=48_000)
    _, filters = fitted(level)
    left = level + chain_level_db(filters, at_hz=GRID, sample_rate_hz=48_000)
    assert deviation_db(GRID, left, FLAT, band_hz=(20, 500)) < 0.1


@pytest.mark.parametrize(
    ("shelf", "range_hz"),
    [
        (BandFilter(frequency_hz=70, gain_db=5, q=0.7, kind="low shelf"), (20, 500)),
        (BandFilter(frequency_hz=6000, gain_db=-4, q=0.7, kind="high shelf"), (200, 16_000)),
    ],
)
def test_what_a_shelf_has_made_is_undone_by_one_shelf_where_the_range_reaches_to_the_end_of_hearing(shelf, range_hz):
    # Closed form: the Cookbook's shelf with the opposite gain is its inverse.
    level = chain_level_db([shelf], at_hz=GRID, sample_rate_hz=48_000)
    _, filters = fitted(level, limits=Limits(from_hz=range_hz[0], to_hz=range_hz[1], max_boost_db=6, bands=3))
    left = level + chain_level_db(filters, at_hz=GRID, sample_rate_hz=48_000)
    assert filters[0 if shelf.kind == "low shelf" else -1].kind == shelf.kind
    assert deviation_db(GRID, left, FLAT, band_hz=range_hz) < 0.15
    # Not where the range ends earlier, nor where shelves are not wanted.
    for other in (
        Limits(from_hz=40, to_hz=12_000, bands=3),
        Limits(from_hz=range_hz[0], to_hz=range_hz[1], bands=3, shelves=False),
    ):
        assert {f.kind for f in fitted(level, limits=other)[1]} <= {"peaking"}


def test_a_shelf_never_raises_what_lies_below_hearing():
    # A bottom that falls off like a shelf wants one that raises: peaking bands do it, which end where the range ends.
    lost = chain_level_db(
        [BandFilter(frequency_hz=70, gain_db=-4, q=0.7, kind="low shelf")], at_hz=GRID, sample_rate_hz=48_000
    )
    _, filters = fitted(lost, limits=Limits(max_boost_db=6, bands=4))
    assert any(f.gain_db > 1 for f in filters)
    assert not [f for f in filters if f.kind == "low shelf" and f.gain_db > 0]
    assert chain_level_db(filters, at_hz=np.array([8.0]), sample_rate_hz=48_000)[0] < 0.5


def test_two_filters_oppose_where_nobody_would_set_both():
    problem = FitProblem(planned(ROOMS["random"]), Limits(), 48_000)

    def fight(item, other):
        return problem.opposing(
            rows_of([BandFilter(frequency_hz=f, gain_db=g, q=q) for f, g, q in (item, other)])
        ).any()

    assert fight((100, 2.5, 3), (105, -2.8, 3))
    assert fight((100, 2.5, 3), (105, 2.8, 3))  # of one sign and width: one would do
    assert not fight((100, 2.5, 1), (105, 2.8, 6))  # a narrow hill on a wide one
    assert not fight((100, 2.5, 3), (200, -2.8, 3))  # apart
    assert not fight((100, 2.5, 0.8), (104, -9, 10))  # a narrow cut within a wide boost
    assert fight((75, 5.9, 10), (79, -13.4, 8))  # strong, and within a third of an octave
    assert fight((200, -5, 1), (210, 4.1, 6))  # a wide cut that a narrow boost undoes
    assert not fight((200, -5, 4), (300, 3.5, 3))  # beside it
    shelf = BandFilter(frequency_hz=100, gain_db=-3, q=0.7, kind="low shelf")
    assert not problem.opposing(rows_of([shelf, BandFilter(frequency_hz=60, gain_db=3, q=0.7)])).any()


def test_one_band_may_raise_more_than_all_together_and_no_more_than_the_processor_holds():
    # A wide hollow with a narrow hill in it: the band that fills it has to be taken back at the hill.
    hollow = bump(100, -9, 0.8) + bump(100, 9, 0.1)
    asked = Limits(max_boost_db=3, bands=2)
    _, filters = fitted(hollow, limits=asked)
    assert max(f.gain_db for f in filters) > 3.2
    assert chain_level_db(filters, at_hz=WIDE, sample_rate_hz=48_000).max() <= 3.02
    held = replace(asked, highest_gain_db=3.0)
    assert max(f.gain_db for f in fitted(hollow, limits=held)[1]) <= 3.0


def test_the_limit_holds_between_the_points_of_the_fit():
    # A cut beside a narrow boost makes a peak that is narrower than either; the fit sees it every 24th of an octave.
    problem = FitProblem(planned(ROOMS["random"]), Limits(), 48_000)
    near = [BandFilter(frequency_hz=121, gain_db=-8.4, q=11.6), BandFilter(frequency_hz=131, gain_db=6, q=15)]
    close = np.geomspace(120, 140, 4000)
    assert chain_level_db(near, at_hz=close, sample_rate_hz=48_000).max() > 3.1
    assert chain_level_db(problem.repaired(near), at_hz=close, sample_rate_hz=48_000).max() <= 3.005


def test_a_level_that_only_moves_what_lies_outside_the_range_is_not_taken():
    # Down to 500 Hz everything is a little loud: turning that down would lift all that lies above against it.
    level = np.where(GRID < 500, 0.6, 0.0)
    narrow, whole = (fitted(level, limits=Limits(from_hz=200, to_hz=to))[1] for to in (500, 15_000))
    assert abs(mean_200_2000(narrow)) < 0.15
    assert abs(mean_200_2000(whole)) < 0.5


def test_children_have_no_kind_of_shelf_twice_and_all_bands_that_are_allowed():
    problem = FitProblem(planned(ROOMS["random"]), Limits(bands=6), 48_000)
    item = rows_of(
        [
            BandFilter(frequency_hz=40, gain_db=-4, q=0.7, kind="low shelf"),
            *(BandFilter(frequency_hz=60 * 1.4**k, gain_db=-2, q=3) for k in range(5)),
        ]
    )
    other = rows_of(
        [
            BandFilter(frequency_hz=200, gain_db=-3, q=0.7, kind="low shelf"),
            *(BandFilter(frequency_hz=50 * 1.4**k, gain_db=2, q=3) for k in range(5)),
        ]
    )
    rng = np.random.default_rng(1)
    children = [_child(problem, np.array([item, other]), rng) for _ in range(60)]
    assert {len(child) for child in children} == {6}
    assert max(int((child[:, KIND] == LOW_SHELF).sum()) for child in children) == 1
    crossed = [child for child in children if (child[:, 1] == -2).any() and (child[:, 1] == 2).any()]
    assert crossed  # and some have bands of both
    for child in crossed:
        assert (
            child[child[:, 1] == -2, 0].max() <= child[child[:, 1] == 2, 0].min()
            or child[child[:, 1] == 2, 0].max() <= child[child[:, 1] == -2, 0].min()
        )


def test_a_longer_look_is_never_worse_and_finds_the_same_again():
    plan, limits = planned(ROOMS["random"]), Limits(bands=5)
    problem = FitProblem(plan, limits, 48_000)
    brief, longer = (best_bands(problem, effort, lambda: None) for effort in (BRIEF, THOROUGH))
    assert problem.cost(longer) < problem.cost(brief)
    assert_allclose(best_bands(problem, THOROUGH, lambda: None), longer, rtol=0, atol=0)
    assert not problem.opposing(longer).any()


def test_bands_that_nothing_is_lost_by_go():
    # As of a main whose bass the subs play: no weight below 80 Hz.
    plan = planned(ROOMS["resonances"])
    problem = FitProblem(replace(plan, weight=np.where(GRID < 80, 0.0, plan.weight)), Limits(), 48_000)
    needed, idle = (rows_of([BandFilter(frequency_hz=f, gain_db=g, q=6)]) for f, g in ((110, -5), (38, 2.6)))
    assert_allclose(_of_use(problem, np.vstack([needed, idle])), needed)


def test_fitting_all_bands_together_beats_placing_them_one_by_one():
    # Ramos and Lopez 2006 place, then optimise; the joint fit must miss less than its own start.
    limits = Limits()
    plan, filters = fitted(ROOMS["random"], limits=limits)
    problem = FitProblem(plan, limits, 48_000)
    start = one_by_one(problem)
    assert problem.cost(rows_of(filters)) < 0.8 * problem.cost(start)


def test_a_fit_is_looked_for_once_and_again_when_anything_of_it_has_changed():
    limits, on_progress = Limits(bands=2), []
    plan = planned(ROOMS["tilted"], limits=limits)

    def fit(plan=plan, limits=limits, rate=48_000, effort=QUICK):
        before = len(on_progress)
        found = fit_bands(
            plan, limits=limits, sample_rate_hz=rate, effort=effort, on_progress=lambda: on_progress.append(1)
        )
        return found, len(on_progress) > before

    first, looked = fit()
    assert looked
    again, looked = fit(plan=planned(ROOMS["tilted"], limits=limits))  # the same of other arrays
    assert again is first
    assert not looked
    for change in (
        {"plan": planned(ROOMS["tilted"] + 0.5, limits=limits)},
        {"limits": Limits(bands=3)},
        {"plan": replace(plan, weight=plan.weight * 2)},
        {"rate": 44_100},
        {"plan": replace(plan, most_up_db=plan.most_up_db + 1)},
        {"effort": BRIEF},
        {"plan": replace(plan, most_down_db=np.full(GRID.size, 1.0))},
        {"plan": replace(plan, loud_db=plan.loud_db + 1)},
        {"plan": replace(plan, share=plan.share / 2)},
    ):
        assert fit(**change)[1], change


def test_gradient_and_square_of_the_fit_are_those_of_its_residuals():
    # Central differences of the residuals, one value after the other; the fit itself never writes slopes down.
    limits = Limits(max_q=10)
    plan = planned(ROOMS["random"], limits=limits)
    problem = FitProblem(plan, limits, 48_000)
    rng = np.random.default_rng(3)
    bands = np.stack(
        [np.log(np.sort(rng.uniform(30, 450, 6))), rng.uniform(-6, 3, 6), np.log(rng.uniform(1, 6, 6)), np.zeros(6)], 1
    )
    bands[0, 1:] = -4.0, np.log(0.7), LOW_SHELF
    cost, gradient, square = problem._normal(bands[None], problem.desired[None])
    here = problem.residuals(bands)
    slopes = []
    for k in np.ndindex(6, 3):
        step = np.zeros(bands.shape)
        step[k] = 1e-6
        nudged = [problem.residuals(bands + sign * step) for sign in (1, -1)]
        slopes.append((nudged[0] - nudged[1]) / 2e-6)
    slopes = np.array(slopes)
    assert cost[0] == pytest.approx(np.sum(here**2))
    assert_allclose(gradient[0], slopes @ here, rtol=2e-3, atol=2e-2)
    assert_allclose(square[0], slopes @ slopes.T, rtol=2e-3, atol=5e-2)


def test_narrow_bands_are_kept_to_where_they_are_allowed():
    limits = Limits(max_q=16, max_q_above=4, narrow_to_hz=150)
    _, filters = fitted(ROOMS["random"], limits=limits)
    assert all(f.q <= 4.01 for f in filters if f.frequency_hz > 150)
    assert max(f.q for f in filters) > 4.01


def test_the_whole_level_is_not_lowered_to_look_better():
    # A response that is level but 4 dB too bumpy: outside the bumps nothing may be moved.
    _, filters = fitted(bump(80, 8, 0.2) + bump(160, 8, 0.2), limits=Limits(from_hz=20, to_hz=20_000))
    assert abs(mean_200_2000(filters)) < 0.3


def test_narrow_deep_dips_ask_to_move_something_unless_spots_left_out_gain_by_filling_them():
    dip = bump(125, -18, 0.06)
    item = plan_correction(GRID, Needs(error_db=-dip[None], weight=np.ones(1)), np.zeros(GRID.size), limits=Limits())
    left = [s for s in item.left_alone if s.from_hz < 125 < s.to_hz]
    assert [(s.verdict, s.kind) for s in left] == [("move something", "cancelled")]
    assert np.abs(item.desired_db[(GRID > 120) & (GRID < 130)]).max() == 0
    # The same dip at every spot: what the others ask for helps the one left out, and the region says so.
    left = [s for s in planned(dip).left_alone if s.from_hz < 125 < s.to_hz]
    assert [(s.verdict, s.kind) for s in left] == [("correct", "filled")]
    assert left[0].gain_db > 0.5
    assert left[0].lowest_hz == pytest.approx(125, rel=0.02)
    assert left[0].under_target_db == pytest.approx(18, abs=1)


def test_dips_that_stand_elsewhere_at_every_spot_are_only_cut_and_such_hills_are_left():
    # Two spots that are off to opposite sides: what one asks for makes the other worse, so nothing is gained.
    for sign, size, spread, verdict in ((-1, 2, 9, "only cut"), (1, 1, 3, "leave")):
        plan = planned(sign * bump(105, size, 0.3), spread_db=bump(105, spread, 0.3))
        found = next(s for s in plan.regions if s.from_hz < 105 < s.to_hz)
        assert (found.kind, found.verdict, found.gain_db < 0) == ("no gain", verdict, True)
        inside = (found.from_hz < GRID) & (found.to_hz > GRID)
        assert plan.desired_db[inside].max() <= 0
        assert plan.desired_db[inside].min() == (0 if sign > 0 else plan.desired_db[inside].min())


@pytest.mark.parametrize(("octaves", "regions"), [(0.03, 1), (0.2, 3)])
def test_a_region_too_short_to_be_dealt_with_alone_belongs_to_its_neighbour(octaves, regions):
    plan = planned(bump(100, 6, 0.6) + bump(100, -8, octaves))
    assert sum(s.to_hz > 80 and s.from_hz < 125 for s in plan.regions) == regions


def test_a_hill_that_the_average_shows_is_cut_though_spots_disagree():
    # Spots at +11 and -7 dB: on average 8.1 dB too much energy (10 lg (12.6 + 0.2) / 2), of which 3 dB are left.
    plan = planned(bump(105, 2, 0.3), spread_db=bump(105, 9, 0.3))
    found = next(s for s in plan.regions if s.from_hz < 105 < s.to_hz)
    assert (found.kind, found.verdict) == ("loud", "only cut")
    assert plan.desired_db[np.argmin(np.abs(GRID - 105))] == pytest.approx(3 - 8.06, abs=0.1)
    filters = fit_bands(plan, limits=Limits(), sample_rate_hz=48_000).filters
    level = chain_level_db(filters, at_hz=np.array([105.0]), sample_rate_hz=48_000)[0]
    assert level == pytest.approx(-5.06, abs=1.0)
    higher = planned(bump(420, 2, 0.3), spread_db=bump(420, 9, 0.3))
    assert "loud" not in {s.kind for s in higher.regions}  # there hills change with every step


def test_a_hill_that_others_play_too_is_cut_by_as_much_more():
    # Filters move the sum by their channel's share of it, in dB: half of it takes twice the cut for the same.
    hill, cuts = bump(79, 8, 0.2), {}
    for part in (1.0, 0.5, 0.1):
        plan = plan_correction(GRID, needs_of(hill), FLAT, limits=Limits(), share=np.full(GRID.size, part))
        cuts[part] = plan.desired_db[np.argmin(np.abs(GRID - 79))]
        filters = fit_bands(plan, limits=Limits(), sample_rate_hz=48_000).filters
        left = plan.loud_db + part * chain_level_db(filters, at_hz=GRID, sample_rate_hz=48_000)
        assert part < 0.5 or left[(GRID > 60) & (GRID < 110)].max() < 3.8
    assert cuts[0.5] == pytest.approx(2 * (3 - 8), abs=0.1)
    # Of what others play nearly alone, no more is asked than of a channel by itself, and nothing is looked for again.
    assert cuts[0.1] == pytest.approx(cuts[1.0], abs=0.1)
    problem = FitProblem(plan, Limits(), 48_000)
    assert np.isneginf(problem.loud_left_db(rows_of([]))).all()


@pytest.mark.parametrize("seed", [6, 21, 24])
def test_narrow_hills_that_the_average_shows_are_not_left_for_wide_ones(seed):
    # A dozen hills and dips that six spots share, and as many of each spot's own: as squares over octaves, narrow hills
    # of the average count little (4.1 to 4.3 dB above the target stayed). The rule of the plan is 3 dB.
    rng = np.random.default_rng(seed)

    def hills():
        return sum(bump(2 ** rng.uniform(5, 8.8), rng.uniform(-8, 8), rng.uniform(0.06, 0.3)) for _ in range(12))

    shared = hills()
    absent = -(shared + np.array([hills() for _ in range(6)]))
    plan = plan_correction(GRID, Needs(error_db=absent, weight=np.full(6, 1 / 6)), FLAT, limits=Limits())
    filters = fit_bands(plan, limits=Limits(), sample_rate_hz=48_000).filters
    average = 10 * np.log10(np.mean(10 ** (-absent / 10), axis=0)) + chain_level_db(
        filters, at_hz=GRID, sample_rate_hz=48_000
    )
    single = (GRID > 40) & (GRID < 190)
    assert average[single].max() < 3.75


def test_what_leaving_a_spot_out_is_worth_is_what_the_others_ask_for():
    # By hand, three spots that lack 4, 5 and 9 dB everywhere, no limit reached: without one, the mean of the others
    # shrinks by 64 / (64 + s^2 / 2), s^2 their variance.
    absent = np.array([4.0, 5.0, 9.0])
    needs = Needs(error_db=np.repeat(absent[:, None], GRID.size, axis=1), weight=np.full(3, 1 / 3))
    gain = needs.gain_db2(Limits(max_boost_db=12))
    others = [np.delete(absent, k) for k in range(3)]
    asked = np.array([o.mean() * 64 / (64 + o.var() / 2) for o in others])
    assert_allclose(gain, np.mean(absent**2 - (absent - asked) ** 2), rtol=1e-9)
    assert Needs(error_db=absent[:1, None] * np.ones(GRID.size), weight=np.ones(1)).gain_db2(Limits()) is None


def test_a_verdict_can_be_overruled_with_a_reason():
    mine = Overruled(from_hz=40, to_hz=80, verdict="leave", reason="the owner likes it")
    plan = planned(bump(60, 8, 0.2), overruled=(mine,))
    found = next(s for s in plan.regions if s.from_hz < 60 < s.to_hz)
    assert (found.verdict, found.reason) == ("leave", "the owner likes it")
    assert np.abs(plan.desired_db[(GRID > 41) & (GRID < 79)]).max() == 0
    with pytest.raises(InvalidValue, match="needs a reason"):
        Overruled(from_hz=40, to_hz=80, verdict="leave", reason=" ")
    with pytest.raises(InvalidValue, match="upside down"):
        Overruled(from_hz=80, to_hz=40, verdict="leave", reason="so")


def test_what_is_good_enough_is_left():
    plan = planned(bump(60, 8, 0.2) + bump(200, -1.5, 0.2), limits=Limits(good_enough_db=2))
    assert np.abs(plan.desired_db[(GRID > 150) & (GRID < 260)]).max() == 0
    assert plan.desired_db.min() < -6
    assert "good enough" in {s.kind for s in plan.regions if s.from_hz < 200 < s.to_hz}


def test_fewer_bands_give_most_of_it():
    fit = fit_bands(planned(ROOMS["resonances"]), limits=Limits(), sample_rate_hz=48_000)
    shares = dict(fit.fewer)
    assert max(shares.values()) == 1
    assert shares[4] > 0.85  # four hills and dips were put in
    # The smallest set is used that takes away 99 % of what the best does.
    assert len(fit.filters) == min(count for count, share in fit.fewer if share >= 0.99)
    # A larger set is only offered where it does more: of eight hills and dips, sets that lose one filter after another
    # sometimes do less than smaller ones. In about half of such rooms a number is missing for that.
    skipped = 0
    for seed in range(31, 37):
        rng = np.random.default_rng(seed)
        busy = sum(bump(2 ** rng.uniform(5, 8.8), rng.uniform(-8, 8), rng.uniform(0.1, 0.6)) for _ in range(8))
        fewer = fit_bands(planned(busy), limits=Limits(), sample_rate_hz=48_000, effort=BRIEF).fewer
        counts, rising = zip(*fewer, strict=True)
        assert list(counts) == sorted(set(counts))
        assert np.all(np.diff(rising) > 0)
        skipped += len(counts) < max(counts)
    assert skipped


@pytest.mark.parametrize("room", sorted(ROOMS))
def test_filters_are_ones_that_a_calibrator_would_load(room):
    _, filters = fitted(ROOMS[room])
    boosts = [f for f in filters if f.gain_db > 0]
    assert all(f.gain_db <= Limits().max_boost_db + 1 + 0.05 for f in boosts)
    assert all(f.q <= 4.05 for f in boosts)
    for item, other in combinations(filters, 2):
        apart = abs(np.log2(item.frequency_hz / other.frequency_hz))
        weaker = min(abs(item.gain_db), abs(other.gain_db))
        if item.gain_db * other.gain_db < 0:
            assert apart > 1 / 3 or weaker <= 3
        else:
            assert apart >= 0.1 or abs(np.log2(item.q / other.q)) >= 1
    # Unless the person allows more.
    _, bold = fitted(ROOMS[room], limits=Limits(max_boost_q=10, more_for_one_db=4))
    assert max((f.gain_db for f in bold), default=0) <= 7.05


@pytest.mark.parametrize("room", sorted(ROOMS))
def test_what_is_written_about_a_region_is_what_filters_do_there(room):
    limits = Limits(to_hz=1000)
    needs = Needs(
        error_db=-ROOMS[room][None] + np.random.default_rng(3).normal(0, 1, (5, 1)) * bump(300, 6, 0.2),
        weight=np.full(5, 0.2),
    )
    plan = plan_correction(GRID, needs, np.zeros(GRID.size), limits=limits)
    filters = fit_bands(plan, limits=limits, sample_rate_hz=48_000).filters
    hand = [*filters, BandFilter(frequency_hz=4000, gain_db=-6, q=2), BandFilter(frequency_hz=35, gain_db=5, q=2)]
    for some in (filters, hand):
        gain = chain_level_db(some, at_hz=GRID, sample_rate_hz=48_000)
        # Smoothed over 1/12 octave by another way: means of power over 4 of 48 points.
        smooth = 10 * np.log10(np.convolve(10 ** (gain / 10), np.ones(5) / 5, "same"))
        on_progress = plan_as_corrected(plan, needs, gain)
        for region in on_progress.regions:
            inside = (region.from_hz * 1.03 < GRID) & (region.to_hz / 1.03 > GRID)
            if not inside.any():
                continue
            if region.verdict in ("leave", "move something"):
                assert np.abs(smooth[inside]).max() <= 1.05
            elif region.verdict == "only cut":
                assert smooth[inside].max() <= 0.55
            assert smooth[inside].max() <= region.costs_db + 0.1
    assert {region.kind for region in on_progress.regions} >= {"skirt"}
    assert all(region.planned for region in on_progress.regions if region.kind == "reached")


def test_the_end_of_the_speakers_reach_gets_no_boost():
    rolled_off = np.minimum(0, 24 * np.log2(np.maximum(GRID, 1) / 60))
    plan = planned(rolled_off)
    assert plan.left_alone[0].kind == "beyond reach"
    assert plan.desired_db[GRID < 40].max() <= 0


def test_reach_is_looked_for_downward_so_that_rumble_below_it_does_not_hide_it():
    rolled_off = np.minimum(0, 24 * np.log2(np.maximum(GRID, 1) / 60))
    plan = planned(rolled_off + np.where(GRID < 22, 40.0, 0.0))  # a lorry outside
    assert plan.desired_db[(GRID > 23) & (GRID < 40)].max() <= 0
    # A null between two modes is not the end of the reach.
    plan = planned(bump(90, -15, 0.2))
    assert plan.desired_db[GRID < 60].min() > -0.1
    assert "beyond reach" not in {region.kind for region in plan.left_alone}


def test_disagreement_between_spots_shrinks_the_correction():
    # By James and Stein: 64 / (64 + 25 / n) of it for a spread of 5 dB over n spots.
    level = bump(60, 8, 0.5)
    absent = -np.array([level + 5, level - 5] * 4)
    plan = plan_correction(GRID, Needs(error_db=absent, weight=np.full(8, 1 / 8)), FLAT, limits=Limits())
    assert plan.desired_db.min() == pytest.approx(-8 * 64 / (64 + 25 / 8), rel=0.01)


def test_target_lifts_the_bass_and_tilts_the_top():
    target = Target(bass_lift_db=4, bass_cutoff_hz=80, tilt_db_per_octave=-0.5, tilt_from_hz=1000)
    level = target.level_db(np.array([1.0, 80.0, 1000.0, 8000.0]))
    assert_allclose(level, [4, 2, 0, -1.5], atol=0.02)  # by its own definition: half at the corner
    assert anchored_level_db(GRID, FLAT + 3, FLAT, band_hz=(200, 2000)) == pytest.approx(3)


def test_headroom_is_the_largest_gain_of_the_chain():
    together = (BandFilter(frequency_hz=50, gain_db=3, q=1), BandFilter(frequency_hz=50, gain_db=2, q=1))
    found = headroom_of(together, sample_rate_hz=48_000)
    assert (found.gain_db, found.at_hz) == (pytest.approx(5), 50)  # both peak at one frequency: gains add in dB
    assert headroom_of((), sample_rate_hz=48_000).gain_db == 0


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"from_hz": 500, "to_hz": 100}, "upside down"),
        ({"max_boost_db": 20}, "out of range"),
        ({"min_q": 5, "max_q": 2}, "upside down"),
        ({"bands": 0}, "out of range"),
    ],
)
def test_impossible_limits_are_refused(change, message):
    with pytest.raises(InvalidValue, match=message):
        Limits(**change)


def test_outcome_tells_promise_from_result():
    before = np.full(GRID.size, 4.0)
    outcome = judge(
        GRID, before_db=before, predicted_db=FLAT + 1, after_db=FLAT + 1.3, target_db=FLAT, range_hz=(20, 500)
    )
    assert outcome.predicted_against_measured_db == pytest.approx(0.3)
    assert outcome.improved
    assert (outcome.before_range_db, outcome.after_whole_db) == (pytest.approx(4), pytest.approx(1.3))


def test_levels_that_placing_explains_pass_and_others_do_not():
    # Bounds of our own, from bench/rehearsal_figures.py: 0.15 + 0.7 / sqrt(n) dB.
    for apart, against in ((0.36, 0), (0.40, 1)):
        match = Match(level_db=apart, loudest="L", softest="R", arrival_s=None, latest="", earliest="")
        assert len(objections_to({}, match, matched_at=9)) == against


def test_arrival_alignment_table_brings_all_to_the_last_and_the_softest():
    # 1 ms is 48 samples at 48 kHz; 1.26 dB is 1.3 in steps of 0.1.
    readings = [
        ChannelReading(channel="L", level_db=0.0, arrival_s=0.010, polarity="normal"),
        ChannelReading(channel="R", level_db=1.26, arrival_s=0.009, polarity="normal"),
    ]
    alignment_table = table_of_arrivals(readings, delay_step_s=1 / 48_000)
    assert [(r.trim_db, r.delay_s) for r in alignment_table.channel_rows] == [(0.0, 0.0), (-1.3, 0.001)]
    assert alignment_table.level_left_db == pytest.approx(0.04)
    with pytest.raises(InvalidValue, match="both channels"):
        table_of_arrivals(readings[:1], delay_step_s=1 / 48_000)


def test_unknown_arrivals_get_no_delay():
    readings = [
        ChannelReading(channel=c, level_db=0.0, arrival_s=a, polarity="normal") for c, a in (("L", 0.010), ("R", None))
    ]
    assert {r.delay_s for r in table_of_arrivals(readings, delay_step_s=1 / 48_000).channel_rows} == {0.0}


def test_a_spot_of_much_weight_is_not_counted_as_many():
    # By hand: mean 4.2, variance 25.2 - 4.2^2 = 7.56, and by Kish 1 / (0.7^2 + 3 * 0.1^2) = 1.923 spots, not four.
    needs = Needs(error_db=np.array([[6.0], [0.0], [0.0], [0.0]]), weight=np.array([0.7, 0.1, 0.1, 0.1]))
    assert needs.desired_db()[0] == pytest.approx(4.2 * 64 / (64 + 7.56 / 1.92308), abs=1e-4)
