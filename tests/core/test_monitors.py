"""What belongs to the monitors themselves: switches at their backs, clean levels, a band heard, points drawn."""

from dataclasses import replace
from itertools import product

import numpy as np
import pytest
import scipy
from numpy.testing import assert_allclose

from dolce.core.correction import (
    Curve,
    MonitorSwitches,
    Needs,
    Position,
    Switch,
    SwitchesAt,
    best_switches,
    checked_switches,
    measured_position,
)
from dolce.core.filters import BandFilter, chain_level_db, chain_samples, shelf_with_slopes_db
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.signals import PERIOD_S, FilteredSource, Source
from dolce.core.tuning import OCTAVES_HZ, Correction, PlayedOnce, maximum_level_bands, needed_levels_db, typed_levels
from dolce.errors import InvalidValue

RATE = 48_000
MIDDLE = (500.0, 2000.0)


def steps(name, shape, hz, *steps_db):
    return Switch.of_steps(name, shape=shape, frequency_hz=hz, q=0.7, steps_db=steps_db, at_hz=GRID[::4])


MODEL = MonitorSwitches(
    name="Model",
    switches=(
        steps("bass", "low shelf", 150, -2, -4, -6),
        steps("desk", "peaking", 180, -2, -4),
        steps("treble", "high shelf", 5000, 2, -2),
    ),
)


def absent(level_db):
    return Needs.of(np.atleast_2d(level_db), np.zeros(GRID.size), at_hz=GRID, band_hz=MIDDLE)


def test_steps_of_a_data_sheet_are_the_cookbooks_filters():
    # scipy.signal.freqz of the W3C Audio EQ Cookbook's low shelf, written out here once more.
    a, w0 = 10 ** (-4 / 40), 2 * np.pi * 150 / RATE
    alpha, cos = np.sin(w0) / 1.4, np.cos(w0)
    b = [
        a * ((a + 1) - (a - 1) * cos + 2 * np.sqrt(a) * alpha),
        2 * a * ((a - 1) - (a + 1) * cos),
        a * ((a + 1) - (a - 1) * cos - 2 * np.sqrt(a) * alpha),
    ]
    c = [
        (a + 1) + (a - 1) * cos + 2 * np.sqrt(a) * alpha,
        -2 * ((a - 1) + (a + 1) * cos),
        (a + 1) + (a - 1) * cos - 2 * np.sqrt(a) * alpha,
    ]
    known = 20 * np.log10(np.abs(scipy.signal.freqz(b, c, worN=GRID[::4], fs=RATE)[1]))
    assert_allclose(MODEL.switches[0].position("−4 dB").change_db(GRID[::4]), known, atol=2e-3)
    assert not MODEL.switches[0].position("anything else").change_db(GRID).any()


@pytest.mark.parametrize("low", [True, False])
def test_level_and_slopes_of_shelves_are_those_of_their_filters(low):
    # Against scipy.signal.freqz_sos of the Cookbook's coefficients, slopes against central differences of that.
    kind = "low shelf" if low else "high shelf"

    def level(values):
        band = BandFilter(frequency_hz=np.exp(values[0]), gain_db=values[1], q=np.exp(values[2]), kind=kind)
        return chain_level_db([band], at_hz=GRID, sample_rate_hz=RATE)

    at = np.array([np.log(220.0), -5.0, np.log(0.8)])
    found, slopes = shelf_with_slopes_db([220.0], [-5.0], [0.8], [low], at_hz=GRID, sample_rate_hz=RATE)
    assert_allclose(found[0], level(at), atol=1e-5)
    for k in range(3):
        nudge = np.eye(3)[k] * 1e-4
        assert_allclose(slopes[0, k], (level(at + nudge) - level(at - nudge)) / 2e-4, atol=2e-3)


def test_best_positions_are_those_that_undo_what_is_off_and_no_other_combination_does_better():
    wanted = {"bass": "−4 dB", "desk": "−2 dB", "treble": "0 dB"}
    rng = np.random.default_rng(4)
    level = -MODEL.change_db(wanted, GRID) + rng.normal(0, 0.3, (5, GRID.size))
    at = SwitchesAt(model=MODEL)
    needs = Needs.of(level, np.zeros(GRID.size), at_hz=GRID, band_hz=MIDDLE)
    found = best_switches(at, needs, at_hz=GRID, range_hz=(20, 16_000), level_band_hz=MIDDLE)
    assert found.positions == wanted
    assert found.same_without_each == 5
    inside = (GRID >= 20) & (GRID <= 16_000)
    middle = (MIDDLE[0] <= GRID) & (MIDDLE[1] >= GRID)

    def deviation(names):
        change = MODEL.change_db(names, GRID)
        left = needs.error_db - (change - change[middle].mean())
        return np.sqrt((left[:, inside] ** 2).mean(axis=1)).mean()

    every = [
        dict(zip(wanted, names, strict=True))
        for names in product(*[[p.name for p in s.positions] for s in MODEL.switches])
    ]
    assert len(every) == MODEL.combinations == 36
    assert min(every, key=deviation) == wanted
    assert found.after_db == pytest.approx(deviation(wanted), abs=0.01)
    assert found.before_db == pytest.approx(deviation({}), abs=0.01)
    assert found.after_db <= found.after_at_new_spots_db + 1e-9


def test_switches_stay_where_turning_them_gains_next_to_nothing_and_start_from_where_they_stood():
    flat = absent(np.random.default_rng(1).normal(0, 0.02, GRID.size))
    standing = SwitchesAt(model=MODEL, measured={"treble": "+2 dB"})
    found = best_switches(standing, flat, at_hz=GRID, range_hz=(20, 16_000), level_band_hz=MIDDLE)
    assert found.positions == {"bass": "0 dB", "desk": "0 dB", "treble": "+2 dB"}
    assert found.after_at_new_spots_db is None
    # What half a position would mend is left: either way as much is off, but for less than 0.05 dB.
    half = absent(-0.52 * MODEL.change_db({"treble": "−2 dB"}, GRID))
    found = best_switches(SwitchesAt(model=MODEL), half, at_hz=GRID, range_hz=(20, 16_000), level_band_hz=MIDDLE)
    assert found.positions["treble"] == "0 dB"
    more = absent(-0.7 * MODEL.change_db({"treble": "−2 dB"}, GRID))
    found = best_switches(SwitchesAt(model=MODEL), more, at_hz=GRID, range_hz=(20, 16_000), level_band_hz=MIDDLE)
    assert found.positions["treble"] == "−2 dB"
    # What was measured with the treble up and is 2 dB too bright there is mended by turning it back.
    bright = absent(MODEL.change_db({"treble": "+2 dB"}, GRID))
    found = best_switches(standing, bright, at_hz=GRID, range_hz=(20, 16_000), level_band_hz=MIDDLE)
    assert found.positions["treble"] == "0 dB"
    turned = replace(standing, chosen=found.positions)
    assert turned.turned == (("treble", "+2 dB", "0 dB"),)
    assert_allclose(turned.change_db(GRID), -MODEL.change_db({"treble": "+2 dB"}, GRID))


def test_what_a_position_does_is_what_takes_with_and_without_it_differ_by():
    rng = np.random.default_rng(8)
    room = rng.normal(0, 6, (3, GRID.size))
    does = MODEL.switches[0].position("−6 dB").change_db(GRID)
    found = measured_position("mine", at_hz=GRID, without_db=room, with_db=room + does)
    # Over a third of an octave, which blunts a shelf's corners a little.
    assert_allclose(found.change_db(GRID)[20:-20], does[20:-20], atol=0.35)


def test_a_check_tells_a_switch_that_was_not_turned_and_takes_no_gain_for_one():
    rng = np.random.default_rng(9)
    room = rng.normal(0, 6, (4, GRID.size))
    at = SwitchesAt(model=MODEL, chosen={"bass": "−4 dB"})
    turned = room + at.change_db(GRID) + 1.5 + rng.normal(0, 0.3, room.shape)
    right = checked_switches(at, at_hz=GRID, before_db=room, after_db=turned, range_hz=(30, 16_000))
    assert right.agrees
    assert right.spots == 4
    wrong = checked_switches(at, at_hz=GRID, before_db=room, after_db=room, range_hz=(30, 16_000))
    assert not wrong.agrees
    assert wrong.worst_hz < 150
    assert wrong.worst_db == pytest.approx(4, abs=0.5)


@pytest.mark.parametrize(("upper_hz", "moves_db"), [(201.0, 0.4), (199.0, 8.0)])
def test_points_far_apart_are_no_gap_where_the_curve_stands_nor_near_ones_where_it_moves(upper_hz, moves_db):
    held = Position(name="x", frequency_hz=(50.0, upper_hz), level_db=(0.0, moves_db))
    assert held.change_db(np.array([50.0, upper_hz])).tolist() == pytest.approx([0, moves_db])


@pytest.mark.parametrize(
    ("make", "message"),
    [
        (
            lambda: Position(name="x", frequency_hz=(50.0, 400.0), level_db=(-4.0, 0.0)),
            "nothing is known between 50 and 400",
        ),
        (lambda: Position(name="x", frequency_hz=(400.0, 50.0), level_db=(-4.0, 0.0)), "follows"),
        (lambda: Position(name="x", frequency_hz=(50.0, 90.0), level_db=(-44.0, 0.0)), "out of range"),
        (lambda: Switch(name="s", positions=(Position(name="a"), Position(name="a"))), "one name"),
        (lambda: MonitorSwitches(name=" ", switches=MODEL.switches), "needs a name"),
        (
            lambda: measured_position(
                "x",
                at_hz=GRID,
                without_db=np.zeros((1, GRID.size)),
                with_db=(np.where((GRID > 80) & (GRID < 900), np.nan, 0) + np.where(GRID < 100, -5, 0))[None],
            ),
            "nothing is known between",
        ),
    ],
)
def test_switches_with_a_gap_and_such_are_refused(make, message):
    with pytest.raises(InvalidValue, match=message):
        make()


def test_turned_switches_belong_to_both_of_a_linked_pair_and_change_what_is_predicted():
    at = SwitchesAt(model=MODEL, chosen={"bass": "−4 dB"})
    both = Correction().with_switches("L", at)
    assert set(both.switches) == {"L", "R"}
    assert set(Correction(linked=False).with_switches("L", at).switches) == {"L"}
    assert_allclose(both.switches_db("R", GRID), at.change_db(GRID))
    assert not both.with_switches("R", None).switches


def played(level_dbfs, harmonics_db, *, noise_db=-70.0, spl_db=100.0):
    flat = np.ones(GRID.size)
    return PlayedOnce(
        frequency_hz=GRID,
        spl_db=(spl_db + level_dbfs) * flat,
        harmonics_db=harmonics_db * flat,
        noise_db=noise_db * flat,
        level_dbfs=level_dbfs,
    )


def test_clean_up_to_the_loudest_take_below_the_first_that_is_not():
    # 3 % is -30.5 dB, 10 % is -20 dB (common practice).
    takes = [played(-24, -50), played(-18, -40), played(-12, -28), played(-6, -35)]
    bass, top = maximum_level_bands(takes)[1], maximum_level_bands(takes)[5]
    assert (bass.mid_hz, bass.maximum_levels_db, bass.at_least) == (63.0, pytest.approx(94), True)
    assert (top.mid_hz, top.maximum_levels_db, top.at_least, top.below_db) == (
        1000.0,
        pytest.approx(82),
        False,
        pytest.approx(88),
    )


def test_what_noise_hides_is_not_called_clean_unless_the_noise_itself_is_low_enough():
    hidden = maximum_level_bands([played(-18, -20, noise_db=-18)])[5]
    assert (hidden.maximum_levels_db, hidden.below_db, hidden.word) == (None, None, "not known")
    low = maximum_level_bands([played(-18, -60, noise_db=-59)])[5]
    assert low.maximum_levels_db == pytest.approx(82)


@pytest.mark.parametrize(("needed", "word"), [(80, "enough"), (86, "not tried that loud")])
def test_words_of_what_was_never_tried_louder(needed, word):
    assert maximum_level_bands([played(-18, -60)], needed_db={1000.0: needed})[5].word == word


def test_typed_levels_go_first_and_what_is_needed_follows_the_corrected_curve():
    typed = typed_levels([40, 100, 8000], [90, 100, 106])
    assert set(typed) == {63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0}
    corrected = np.where(GRID < 100, 6.0, 0.0)
    needed = needed_levels_db(GRID, corrected, reference_db=79)
    # Common practice: full scale is 20 dB above the noise that the reference is set with.
    assert (needed[31.5], needed[1000.0]) == (105.0, 99.0)
    bands = maximum_level_bands([played(-6, -60)], typed=typed, needed_db=needed)
    assert bands[5].word == "enough"
    assert (bands[1].typed, bands[1].word) == (True, "too little")
    assert bands[1].margin_db == pytest.approx(typed[63.0] - 105)
    assert [b.mid_hz for b in bands] == list(OCTAVES_HZ)
    for points, message in (([40, 30], "follows"), ([40, 41], "no octave")):
        with pytest.raises(InvalidValue, match=message):
            typed_levels(points, [90, 90])


def test_a_filtered_source_is_what_filters_settle_to_and_states_its_peak():
    band = BandFilter(frequency_hz=120, gain_db=9, q=2)
    source = Source(kind="pink", level_dbfs=-30)
    size = round(PERIOD_S * RATE)
    plain = source.block(0, 3 * size, sample_rate_hz=RATE)
    heard = FilteredSource(source=source, filters=(band,))
    # scipy.signal.sosfilt over three periods: in the third the filter has settled.
    assert_allclose(
        heard.block(2 * size, size, sample_rate_hz=RATE),
        chain_samples([band], plain, sample_rate_hz=RATE)[2 * size :],
        atol=1e-9,
    )
    peak = 20 * np.log10(np.abs(heard.block(0, size, sample_rate_hz=RATE)).max())
    assert heard.peak_dbfs(RATE) == pytest.approx(peak, abs=0.01)


def test_points_of_a_target_are_set_moved_and_taken_away():
    curve = Curve(frequency_hz=(20.0, 200.0, 2000.0), level_db=(6.0, 0.0, -1.0))
    more = curve.with_point(60.04, 3.21)
    assert (more.frequency_hz, more.level_db) == ((20.0, 60.0, 200.0, 2000.0), (6.0, 3.2, 0.0, -1.0))
    past = more.with_point(400, 2, instead_of=1)
    assert past.frequency_hz == (20.0, 200.0, 400.0, 2000.0)
    assert more.with_point(200, 5).level_db == (6.0, 3.2, 5.0, -1.0)
    with pytest.raises(InvalidValue):
        curve.without_point(0)
