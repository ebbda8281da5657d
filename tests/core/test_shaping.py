"""Targets, convolutions, fixed bands, left-out checks and headroom of the Shape stop."""

from dataclasses import replace

import numpy as np
import pytest
import scipy
from numpy.testing import assert_allclose

from dolce.core.alignment import ChannelReading, table_of_arrivals
from dolce.core.correction import (
    SMALL_ROOM_CINEMA,
    Curve,
    FilterType,
    FixedBands,
    FoundConvolution,
    Limits,
    Needs,
    Preference,
    Target,
    agreed_to_hz,
    convolution_curve,
    deviations_db,
    excess_delay_s,
    expected,
    fit_bands,
    fit_left_out,
    fit_with_fixed,
    low_frequency_extension_hz,
    plan_correction,
    ringing_s,
    shared_excess_phase,
    speaker_curve,
    target_levels,
)
from dolce.core.filters import (
    BandFilter,
    before_main_db,
    chain_level_db,
    chain_samples,
    linear_phase,
    minimum_phase,
    phase_compensated,
)
from dolce.core.processor import EFFECTS, BassManagement, ChannelSettings, Crossover, Effects, ProcessorLimits
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.tuning import (
    Alignment,
    Band,
    ChannelAlignment,
    Correction,
    CorrectionSettings,
    Outputs,
    SeatResponses,
    delay_step_s,
    expectation_of,
    found_filters,
    headroom_cut_db,
    judged_range_hz,
    output_loads,
    seat_levels_db,
    settings_of,
    shape_of,
    trim_step_db,
    wanted_rise_db,
    with_table,
)
from dolce.errors import InvalidValue

RATE = 48_000
FLAT = np.zeros(GRID.size)


def bump(at_hz, height_db, octaves):
    return height_db * np.exp(-((np.log2(GRID / at_hz) / octaves) ** 2))


def planned(level_db, limits, spots=4):
    needs = Needs(error_db=np.repeat(-level_db[None], spots, axis=0), weight=np.full(spots, 1 / spots))
    return plan_correction(GRID, needs, FLAT, limits=limits)


def level_of(impulse, at_hz, rate=RATE):
    return 20 * np.log10(np.abs(scipy.signal.freqz(impulse, worN=at_hz, fs=rate)[1]))


# Kinds of bands


@pytest.mark.parametrize(
    ("kind", "at_hz", "level_db"),
    [
        # Closed forms of the Cookbook's analogue prototypes: a shelf has its gain well beyond its corner and half of it
        # there; a pass with Q 0.7071 is 3.01 dB down at its corner and falls by 12 dB an octave; an all-pass changes
        # nothing.
        ("low shelf", (1.0, 200.0, 20_000.0), (6.0, 3.0, 0.0)),
        ("high shelf", (1.0, 200.0, 20_000.0), (0.0, 3.0, 6.0)),
        ("high-pass", (25.0, 200.0, 20_000.0), (-36.12, -3.01, 0.0)),
        ("low-pass", (1.0, 200.0, 1600.0), (0.0, -3.01, -36.3)),
        ("all-pass", (25.0, 200.0, 20_000.0), (0.0, 0.0, 0.0)),
    ],
)
def test_every_kind_of_band_has_the_level_of_its_prototype(kind, at_hz, level_db):
    band = BandFilter(kind=kind, frequency_hz=200, gain_db=6, q=np.sqrt(0.5))
    assert_allclose(chain_level_db([band], at_hz=np.array(at_hz), sample_rate_hz=RATE), level_db, atol=0.15)
    impulse = np.zeros(RATE)
    impulse[0] = 1.0
    # What a processor plays is what the curve shows.
    played = level_of(chain_samples([band], impulse, sample_rate_hz=RATE), np.array(at_hz[1:]))
    assert_allclose(played, chain_level_db([band], at_hz=np.array(at_hz[1:]), sample_rate_hz=RATE), atol=0.02)


def test_an_unknown_kind_of_band_is_refused():
    with pytest.raises(InvalidValue, match="no kind of band"):
        BandFilter(kind="comb", frequency_hz=200, gain_db=6, q=1)


# Impulse responses

WAVY = bump(60, -8, 0.3) + bump(300, 4, 0.3) + bump(5000, -3, 0.5)


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_impulse_responses_have_the_level_that_was_asked_for_at_every_rate(rate):
    at = np.geomspace(25, 16_000, 200)
    wanted = np.interp(np.log(at), np.log(GRID), WAVY)
    for phase in ("minimum", "linear", "mixed"):
        found = FoundConvolution(at_hz=tuple(GRID), level_db=tuple(WAVY), phase=phase, duration_s=0.5)
        impulse = found.impulse(sample_rate_hz=rate)
        assert impulse.size == pytest.approx(rate / 2, abs=1)
        # Straight lines between points of 48 an octave, and a window: 0.1 dB.
        assert_allclose(level_of(impulse, at, rate), wanted, atol=0.1)


def test_minimum_phase_is_that_of_the_reference_library():
    # scipy.signal.minimum_phase on the same level, from a linear-phase filter with the squared magnitude.
    wavy = minimum_phase(GRID, WAVY, sample_rate_hz=RATE, samples=8192)
    double = linear_phase(GRID, 2 * WAVY, sample_rate_hz=RATE, samples=8191)
    reference = scipy.signal.minimum_phase(double, method="homomorphic", n_fft=2**19)
    at = np.geomspace(60, 15_000, 100)
    ours, theirs = (np.unwrap(np.angle(scipy.signal.freqz(h, worN=at, fs=RATE)[1])) for h in (wavy, reference))
    assert np.degrees(np.abs(ours - theirs)).max() < 2.0  # both are windowed, each in its own way


def test_linear_phase_is_symmetric_and_sounds_before():
    impulse = linear_phase(GRID, WAVY, sample_rate_hz=RATE, samples=9601)
    assert_allclose(impulse, impulse[::-1], atol=1e-12)
    assert before_main_db(impulse) > -30
    assert before_main_db(minimum_phase(GRID, FLAT, sample_rate_hz=RATE, samples=4800)) < -150


def test_an_inverse_of_a_known_minimum_phase_system_is_flat_in_the_allowed_range():
    # Closed form: bands have their inverse, and it is of minimum phase too.
    system = [BandFilter(frequency_hz=63, gain_db=6, q=3), BandFilter(frequency_hz=250, gain_db=-2.5, q=2)]
    level = chain_level_db(system, at_hz=GRID, sample_rate_hz=RATE)
    limits = Limits(from_hz=30, to_hz=1000)
    curve = convolution_curve(planned(level, limits), limits)
    inverse = minimum_phase(GRID, curve, sample_rate_hz=RATE, samples=RATE // 2)
    both = chain_samples(system, inverse, sample_rate_hz=RATE)
    left = level_of(both, np.geomspace(35, 900, 200))
    assert np.ptp(left) < 0.2  # flat within 0.1 dB to either side


def all_pass(at_hz, frequency_hz, *, q, sections=1):
    """Closed form of second-order all-passes in a row (any text on active filters)."""
    s = 1j * at_hz / frequency_hz
    return ((s * s - s / q + 1) / (s * s + s / q + 1)) ** sections


ALL_PASSES = [(40, 0.707, 2), (40, 1.0, 2), (100, 1.0, 1)]


@pytest.mark.parametrize("duration_s", [0.1, 0.3])
@pytest.mark.parametrize(("frequency", "q", "sections"), ALL_PASSES)
def test_a_shared_all_pass_is_undone_within_its_bound_and_levels_stay(frequency, q, sections, duration_s):
    # Takes start at other moments, so every spot has a delay of its own.
    at, before_s = np.arange(5.0, 500.0), 0.02
    turned = all_pass(at, frequency, q=q, sections=sections)
    delays = np.random.default_rng(0).uniform(0.003, 0.01, (5, 1))
    phase, agreed = shared_excess_phase(at, turned * np.exp(-2j * np.pi * at * delays))
    assert agreed.min() > 0.95
    impulse = phase_compensated(
        GRID, FLAT, at, phase, sample_rate_hz=RATE, samples=round(duration_s * RATE), before_s=before_s
    )
    # Levels stay as they are: asked within 0.1 dB, seen within 0.002 dB.
    assert_allclose(level_of(impulse, np.geomspace(10, 20_000, 3000)), 0, atol=0.1)
    # The slowest frequency is 4 Q / w0 late for each section. At most 15 of the 20 ms go into that, as much as makes
    # half turns at 0 Hz.
    near = frequency + np.array([-0.5, 0.5])
    done = scipy.signal.freqz(impulse, worN=near, fs=RATE)[1] * np.exp(2j * np.pi * near * before_s)
    late_s = 4 * q / (2 * np.pi * frequency) * sections
    now_s = -np.diff(np.angle(done * all_pass(near, frequency, q=q, sections=sections)))[0] / (2 * np.pi)
    assert late_s - now_s > (0.7 if late_s < 0.5 * before_s else 0.3) * min(late_s, before_s)
    assert np.argmax(np.abs(impulse)) >= round(before_s * RATE) - 1


def test_excess_delay_of_an_all_pass_is_its_group_delay():
    # 4 Q / w0 at the frequency of a second-order all-pass in closed form, 6.4 ms here; the delay taken out is that of
    # the upper octave, where it is 0.1 ms.
    at = np.arange(5.0, 500.0)
    turned = all_pass(at, 100, q=1) * np.exp(-2j * np.pi * at * 0.008)
    assert excess_delay_s(at, np.array([turned]))[0][95] == pytest.approx(4 / (2 * np.pi * 100), rel=0.05)


def test_a_phase_is_undone_with_three_spots_at_least():
    at = np.arange(5.0, 500.0)
    turned = np.tile(all_pass(at, 40, q=1), (3, 1))
    assert not shared_excess_phase(at, turned[:2])[0].any()
    assert np.abs(shared_excess_phase(at, turned)[0]).max() > 2


def test_a_convolution_has_its_level_whatever_phase_it_undoes():
    # Two regions where spots agree, and none between them: the phase fades to nothing in between.
    at = np.arange(5.0, 500.0)
    rng = np.random.default_rng(3)
    apart = np.exp(1j * np.where((at > 90) & (at < 140), rng.uniform(-3, 3, (6, 1)), 0.0))
    phase, agreed = shared_excess_phase(at, all_pass(at, 50, q=1) * apart)
    assert agreed[(at > 100) & (at < 130)].max() < 0.8
    assert np.abs(phase[(at > 105) & (at < 125)]).max() < 0.2
    found = FoundConvolution(
        at_hz=tuple(GRID),
        level_db=tuple(WAVY),
        phase="mixed",
        duration_s=0.5,
        compensated_hz=tuple(at),
        compensated_rad=tuple(phase),
    )
    wanted = np.geomspace(25, 16_000, 400)
    plain = FoundConvolution(at_hz=tuple(GRID), level_db=tuple(WAVY), duration_s=0.5)
    assert_allclose(
        level_of(found.impulse(sample_rate_hz=RATE), wanted),
        level_of(plain.impulse(sample_rate_hz=RATE), wanted),
        atol=0.1,
    )


def test_phase_that_spots_do_not_share_is_left():
    at = np.arange(5.0, 500.0)
    rng = np.random.default_rng(4)
    apart = np.exp(1j * np.cumsum(rng.normal(0, 0.4, (6, at.size)), axis=1))
    phase, agreed = shared_excess_phase(at, apart)
    assert np.abs(phase[agreed < 0.6]).max() < 0.3


@pytest.mark.parametrize("boost", [0.0, 3.0, 6.0])
def test_limits_hold_for_a_convolution_too(boost):
    level = np.convolve(np.random.default_rng(5).normal(0, 14, GRID.size), np.ones(12) / 12, "same")
    middle = (GRID >= 200) & (GRID <= 2000)
    for limits in (Limits(max_boost_db=boost, max_cut_db=10), Limits(max_boost_db=boost, max_cut_db=10, to_hz=16_000)):
        curve = convolution_curve(planned(level, limits), limits)
        assert curve.max() <= boost
        assert curve.max() - min(0.0, curve[middle].mean()) <= boost + 0.5 + 1e-9  # sums round
        assert curve[middle].mean() >= -0.94
        assert curve.min() >= -10
        outside = np.maximum(np.log2(limits.from_hz / GRID), np.log2(GRID / limits.to_hz)) > 1 / 6
        assert np.abs(curve[outside]).max() == 0


def test_resonances_ring_as_long_as_they_are_narrow():
    # A single resonance with a half-width of B Hz decays in 2.2 / B s (Kuttruff).
    at = np.arange(40.0, 90.0, 0.05)
    resonance = 10 * np.log10(1 / (1 + ((at - 63) / 2) ** 2))  # 4 Hz wide
    assert ringing_s(at, resonance) == pytest.approx(2.2 / 4, rel=0.05)


# Fixed bands


def test_gains_of_a_graphic_equaliser_are_solved_with_the_leak_of_the_neighbours():
    # Valimaki and Liski 2017: setting every gain to the desired one at its own centre overshoots by what the
    # neighbours leak; solved, the sum hits it at the centres.
    wanted = 6.0 * np.where((GRID > 35) & (GRID < 180), 1.0, 0.0)
    wanted = np.convolve(wanted, np.ones(24) / 24, "same")
    limits = Limits(from_hz=20, to_hz=20_000, max_cut_db=12)
    fixed = FixedBands(step_db=0.1)
    graphic, free = fit_with_fixed(planned(wanted, limits), fixed, limits=limits, sample_rate_hz=RATE)
    assert free == ()
    centres = np.array([f.frequency_hz for f in graphic])
    total = chain_level_db(graphic, at_hz=centres, sample_rate_hz=RATE)
    asked = -np.interp(np.log(centres), np.log(GRID), wanted)
    naive = [BandFilter(frequency_hz=f, gain_db=g, q=4.318) for f, g in zip(centres, asked, strict=True)]
    leaked = chain_level_db(naive, at_hz=centres, sample_rate_hz=RATE)
    middle = (centres > 45) & (centres < 130)
    assert np.abs(leaked - asked)[middle].max() > 2.0
    # At the level the channel is brought to again: differences from the mean count.
    assert np.ptp((total - asked)[middle]) < 0.6
    assert all(abs(f.gain_db / 0.1 - round(f.gain_db / 0.1)) < 1e-6 for f in graphic)


def test_fixed_and_free_bands_together_miss_less_than_fixed_ones_alone():
    level = bump(71, 9, 0.06) + bump(200, -3, 0.5)
    correction = Correction(limits=Limits(bands=3))
    heard = SeatResponses.of(np.repeat(level[None], 3, axis=0))
    left = {}
    for method in ("fixed bands", "fixed and free bands", "level only"):
        of = Correction(limits=Limits(bands=3), filter_type=FilterType(method=method))
        shape = shape_of("C", heard, at_hz=GRID, correction=of, sample_rate_hz=RATE)
        found = found_filters({"C": shape}, of, sample_rate_hz=RATE).correction
        left[method] = shape_of("C", heard, at_hz=GRID, correction=found, sample_rate_hz=RATE).predicted_deviation_db
    assert left["fixed and free bands"] < 0.7 * left["fixed bands"] < left["level only"]
    assert correction.bands == {}


def test_locked_bands_stay_and_the_others_are_fitted_beside_them():
    mine = Band(filter=BandFilter(frequency_hz=45, gain_db=-6, q=2), locked=True)
    correction = Correction(
        limits=Limits(bands=4), bands={"C": (mine, Band(filter=BandFilter(frequency_hz=300, gain_db=3, q=1)))}
    )
    heard = SeatResponses.of(np.repeat((bump(45, 6, 0.4) + bump(150, 5, 0.2))[None], 3, axis=0))
    shape = shape_of("C", heard, at_hz=GRID, correction=correction, sample_rate_hz=RATE)
    found = found_filters({"C": shape}, correction, sample_rate_hz=RATE).correction.bands["C"]
    assert [band.filter for band in found if band.locked] == [mine.filter]
    others = [band.filter for band in found if not band.locked]
    assert others
    assert not any(abs(np.log2(other.frequency_hz / 45)) < 0.3 and abs(other.gain_db) > 2 for other in others)


# Targets


def test_target_curves_and_preferences_add_up():
    curve = Curve(frequency_hz=(20, 200, 20_000), level_db=(4, 0, -4))
    target = Target(curve=curve, treble_db=-2, treble_cutoff_hz=4000)
    preference = Preference(name="evening", tilt_db_per_octave=-0.5, presence_db=1)
    correction = Correction(target=target, preference=preference)
    at = np.array([20.0, 200.0, 3000.0, 4000.0])
    # By their own definitions: straight over log frequency; half of the treble at its corner; the tilt about 1 kHz.
    expected_db = np.array([4, 0, -4 * np.log10(3000 / 200) / 2, -4 * np.log10(4000 / 200) / 2])
    expected_db += -2 / (1 + (4000 / at) ** 3) - 0.5 * np.log2(at / 1000)
    expected_db += np.exp(-((np.log2(at / 3000) / 0.75) ** 2))
    assert_allclose(correction.target_db("L", at), expected_db, atol=1e-6)
    off = Correction(target=target, preference=Preference(name="evening", bass_db=4, on=False))
    assert_allclose(off.target_db("L", at), target.level_db(at), atol=1e-12)


def test_the_small_room_cinema_curve_has_its_points():
    # As remembered from ISO 2969 and SMPTE ST 202 for small rooms: 0 dB to 2 kHz, then 1.5 dB an octave.
    assert_allclose(SMALL_ROOM_CINEMA.at(np.array([100.0, 2000.0, 4000.0, 8000.0])), [0, 0, -1.5, -3.0], atol=1e-9)


@pytest.mark.parametrize(
    ("points", "message"),
    [
        (((20, 100), (0, 0)), "Give 3 to"),
        (((20, 100, 50), (0, 0, 0)), "follows"),
        (((20, 100, 500), (0, 0, 90)), "range"),
    ],
)
def test_curves_that_are_none_are_refused(points, message):
    with pytest.raises(InvalidValue, match=message):
        Curve(frequency_hz=points[0], level_db=points[1])


def test_a_target_hung_far_from_the_curve_is_told():
    heard = SeatResponses.of(np.zeros((3, GRID.size)))
    for level, far in ((40.0, True), (5.0, False)):
        shape = shape_of(
            "C", heard, at_hz=GRID, sample_rate_hz=RATE, correction=Correction(anchor="hand", anchor_level_db=level)
        )
        assert (shape.target_off_db, shape.target_is_far) == (pytest.approx(level), far)


def test_filters_of_a_sub_boost_nothing_for_what_its_trim_lifts():
    # A flat sub under a target that lifts the bass by 6 dB: level with the main channels is the business of trims.
    correction = Correction(target=Target(bass_lift_db=6, bass_cutoff_hz=200.0))
    flat = np.full((3, GRID.size), -40.0)
    shape = shape_of("Sub1", SeatResponses.of(flat), at_hz=GRID, correction=correction, sample_rate_hz=RATE)
    band = (GRID >= 30) & (GRID <= 80)
    assert np.mean((shape.before_db - shape.target_db)[band]) == pytest.approx(0, abs=0.01)
    inside = (GRID >= 25) & (GRID <= 80)
    assert np.abs(shape.plan.desired_db[inside]).max() < 1.5
    assert wanted_rise_db("Sub1", correction, at_hz=GRID) == pytest.approx(6, abs=0.5)


def test_a_channel_may_have_an_aim_of_its_own():
    mine = CorrectionSettings(target=Target(bass_lift_db=6), limits=Limits(to_hz=300))
    correction = Correction(target=Target(bass_lift_db=1), by_channel={"C": mine})
    assert correction.correction_settings("L").target.bass_lift_db == 1
    assert correction.correction_settings("C").limits.to_hz == correction.limits_for("C").to_hz == 300


def test_a_target_from_the_loudspeaker_asks_for_no_more_bottom_than_there_is():
    # Made up: rolled off by 24 dB an octave below 50 Hz, falling by 1 dB an octave, direct sound 1.5 dB up at 3 kHz.
    room = -np.log2(np.maximum(GRID, 200) / 1000) + np.minimum(0, 24 * np.log2(GRID / 50)) + bump(80, 6, 0.1)
    found = speaker_curve(GRID, room, bump(3000, 1.5, 0.5))
    curve = Curve(frequency_hz=tuple(found.frequency_hz), level_db=tuple(found.level_db))
    at = np.array([25.0, 35.0, 80.0, 1000.0, 8000.0])
    level = curve.at(at)
    assert level[0] < -14
    assert level[1] < -4
    # Below its reach it lies nowhere above what the loudspeaker does there (over two thirds of an octave), both with
    # 0 dB as their mean over 200 to 2000 Hz.
    low = np.geomspace(21, 42, 40)
    middle = (GRID >= 200) & (GRID <= 2000)
    wide = np.convolve(np.pad(room, 16, mode="edge"), np.ones(33) / 33, "valid")
    has = np.interp(np.log(low), np.log(GRID), wide - wide[middle].mean())
    assert np.all(curve.hung().at(low) <= has + 0.3)
    assert abs(level[2] - curve.at(np.array([200.0]))[0]) < 1.5  # the mode at 80 Hz is not followed
    assert level[3] - level[4] == pytest.approx(3, abs=0.6)
    assert np.diff(curve.at(np.array([1000.0, 3000.0])))[0] > -np.log2(3) + 0.7
    assert 40 <= found.extension_hz < 50
    assert found.slope_db == pytest.approx(-1.0, abs=0.05)
    assert found.follows_direct


# What it is worth elsewhere


def test_deviation_is_told_at_each_spots_own_level():
    # Two spots that are 6 dB apart in level but have the same shape are off by the same: nothing but shape counts.
    absent = np.array([bump(60, 8, 0.2), bump(60, 8, 0.2)])
    found = deviations_db(absent, np.zeros(GRID.size), at_hz=GRID, range_hz=(20, 500), level_band_hz=(200, 2000))
    by_hand = np.sqrt(np.mean(bump(60, 8, 0.2)[(GRID >= 20) & (GRID <= 500)] ** 2))
    assert_allclose(found, by_hand, rtol=1e-9)
    # A correction that only lowers everything changes nothing.
    lower = deviations_db(absent, np.full(GRID.size, -3.0), at_hz=GRID, range_hz=(20, 500), level_band_hz=(200, 2000))
    assert_allclose(lower, by_hand, rtol=1e-9)


def test_the_left_out_check_holds_the_truth_in_four_of_five_cases():
    # Monte Carlo: spots share a curve and differ by chance; the truth is the mean over 4000 spots. 400 cases: the share
    # scatters by 2 %. The interval is narrower by a fifth than independent spots would need (see its module), so about
    # 70 % hold here, where spots have no seat in common.
    rng = np.random.default_rng(8)
    at = np.geomspace(20, 500, 40)
    inside = 0
    for _ in range(400):
        common, spread = rng.normal(0, 4, at.size), 3.0
        sized = spread * rng.lognormal(0, 0.25, 9)
        spots = common + sized[:, None] * rng.normal(0, 1, (9, at.size))
        needs = Needs(error_db=spots, weight=np.full(9, 1 / 9))
        options, without = needs.desired_db(), needs.desired_without_each_db()
        found = expected(needs, options, without, at_hz=at, range_hz=(20, 500), level_band_hz=(20, 500))
        new = common + spread * rng.lognormal(0, 0.25, 300)[:, None] * rng.normal(0, 1, (300, at.size))
        truth = deviations_db(new, options, at_hz=at, range_hz=(20, 500), level_band_hz=(20, 500)).mean()
        inside += found.after_at_new_spots_low_db <= truth <= found.after_at_new_spots_high_db
        assert found.after_db < found.after_at_new_spots_db
    assert 0.6 < inside / 400 < 0.85


def test_spots_agree_up_to_where_they_do():
    # Made up: to 600 Hz all spots share a wavy curve, above each has its own.
    rng = np.random.default_rng(6)

    def smooth():
        return np.convolve(rng.normal(0, 14, GRID.size), np.ones(12) / 12, "same")

    shared = smooth()
    spots = np.array([np.where(GRID < 600, shared, smooth()) for _ in range(8)])
    needs = Needs(error_db=spots, weight=np.full(8, 1 / 8))
    assert 400 < agreed_to_hz(GRID, needs, Limits(max_boost_db=6)) < 1000
    assert agreed_to_hz(GRID, Needs(error_db=spots[:1], weight=np.ones(1)), Limits()) is None


def test_with_one_spot_nothing_can_be_left_out():
    needs = Needs(error_db=bump(60, 8, 0.2)[None], weight=np.ones(1))
    found = expected(needs, -FLAT, np.zeros((0, GRID.size)), at_hz=GRID, range_hz=(20, 500), level_band_hz=(200, 2000))
    assert found.after_at_new_spots_db is None
    assert plan_correction(GRID, needs, FLAT, limits=Limits()).regions[1].gain_db is None


# Headroom


def test_outputs_add_up_what_feeds_them():
    # Two coherent channels add up to 6.02 dB, two incoherent ones to 3.01 dB; far below the corner a crossover's low
    # side passes everything.
    bass = BassManagement(crossover=Crossover(frequency_hz=200), subs=("Sub1",), sub_gain_db=0.0)
    outputs = Outputs(settings={"Sub1": ChannelSettings(trim_db=-2)}, bass=bass)
    loads = {first.output: first for first in output_loads(outputs, ["L", "R"], sample_rate_hz=RATE, cut_db=1.0)}
    sub = loads["Sub1"]
    assert sub.channels == ("L", "R")
    assert sub.gain_db == pytest.approx(6.02 - 2, abs=0.1)
    assert sub.tone_dbfs == pytest.approx(6.02 - 3, abs=0.1)
    alone = output_loads(Outputs(settings={}), ["L"], sample_rate_hz=RATE, cut_db=0.0)[0]
    assert (alone.gain_db, alone.noise_dbfs) == (pytest.approx(0, abs=1e-9), pytest.approx(0, abs=1e-9))
    # A peaking band has its gain at its centre (Bristow-Johnson, Audio EQ Cookbook), be it narrower than the steps.
    narrow = Outputs(settings={"L": ChannelSettings(filters=(BandFilter(frequency_hz=35.61, gain_db=3.0, q=20),))})
    load = output_loads(narrow, ["L"], sample_rate_hz=RATE, cut_db=3.0)[0]
    assert (load.gain_db, load.at_hz) == (pytest.approx(3.0, abs=1e-6), 35.61)
    assert load.tone_dbfs == pytest.approx(0.0, abs=1e-6)
    twice = output_loads(
        Outputs(
            settings={}, bass=BassManagement(crossover=Crossover(frequency_hz=80), subs=(), sends={"R": {"L": 0.0}})
        ),
        ["L", "R"],
        sample_rate_hz=RATE,
        cut_db=0.0,
    )
    assert twice[0].noise_dbfs == pytest.approx(3.01, abs=0.01)


def test_the_headroom_cut_covers_every_single_input_at_full_scale():
    # Two subs that share bass (6.02 dB less each) with +3 dB of trim or filter, and an effects channel 10 dB louder:
    # 10 - 6.02 + 3 dB at either output by arithmetic; far below the corners the low sides pass everything.
    bass = BassManagement(crossover=Crossover(frequency_hz=80), subs=("Sub1", "Sub2"), effects=Effects())
    shelf = BandFilter(frequency_hz=40, gain_db=3.0, q=0.5)
    outputs = Outputs(
        settings={"Sub1": ChannelSettings(filters=(shelf,)), "Sub2": ChannelSettings(trim_db=-1.0)}, bass=bass
    )
    inputs = ["L", "R", "Sub1", "Sub2", EFFECTS]
    loads = output_loads(outputs, inputs, sample_rate_hz=RATE, cut_db=0.0)
    cut = headroom_cut_db(loads)
    assert cut == pytest.approx(10 - 6.02 + 3, abs=0.15)
    after = {load.output: load for load in output_loads(outputs, inputs, sample_rate_hz=RATE, cut_db=cut)}
    assert max(first.single_dbfs for first in after.values()) <= 1e-9
    assert (after["Sub1"].single, after["Sub1"].is_beyond) == (EFFECTS, True)
    # A cut is in tenths of a decibel, upward, and no boost asks for none.
    assert cut * 10 == pytest.approx(round(cut * 10))
    assert (
        headroom_cut_db(
            output_loads(Outputs(settings={"L": ChannelSettings(trim_db=-3)}), ["L"], sample_rate_hz=RATE, cut_db=0.0)
        )
        == 0.0
    )


def test_what_a_correction_costs_at_the_seat():
    # Pink noise through a trim of -2 dB and a cut of 4 dB is 6 dB softer, whatever the room.
    heard = {"L": 3 * np.sin(GRID)}
    outputs = Outputs(settings={"L": ChannelSettings(trim_db=-2)})
    before, after = seat_levels_db(outputs, "L", heard, at_hz=GRID, sample_rate_hz=RATE, cut_db=4.0)
    assert after - before == pytest.approx(-6, abs=1e-9)
    assert seat_levels_db(outputs, "R", heard, at_hz=GRID, sample_rate_hz=RATE, cut_db=4.0) is None


# Where a loudspeaker ends, and the level of its target


def rolled_off(end_hz, order, *, seed=0, modes_db=6.0):
    """A Butterworth high-pass that is 10 dB down at `end_hz`, in a room that lifts the bass and has modes."""
    rng = np.random.default_rng(seed)
    corner = end_hz * 9 ** (1 / (2 * order))
    level = -10 * np.log10(1 + (corner / GRID) ** (2 * order)) + 5 * np.clip(np.log2(45 / GRID), 0, 1.2)
    modes = np.interp(np.log2(GRID), np.arange(3, 15, 0.25), rng.normal(0, modes_db / 2, 48))
    return level + np.where(GRID < 300, modes, 0.0)


@pytest.mark.parametrize("order", [2, 4])
@pytest.mark.parametrize("end_hz", [28.0, 45.0, 70.0])
def test_a_loudspeakers_end_is_found_under_the_modes_of_a_room(end_hz, order):
    off = [abs(np.log2(low_frequency_extension_hz(GRID, rolled_off(end_hz, order, seed=k)) / end_hz)) for k in range(9)]
    assert np.median(off) < 0.2
    # By a take close to it, where the room adds nothing.
    bare = rolled_off(end_hz, order, modes_db=0.0) - 5 * np.clip(np.log2(45 / GRID), 0, 1.2)
    assert low_frequency_extension_hz(GRID, bare, close=True) == pytest.approx(end_hz, rel=0.03)


def test_one_room_mode_is_not_taken_for_the_loudspeakers_end():
    level = rolled_off(70.0, 4, modes_db=0.0) + bump(30, 28, 0.12)
    assert level[np.argmin(np.abs(GRID - 30))] > -10  # by level alone it would end at 28 Hz
    assert low_frequency_extension_hz(GRID, level) > 58


def test_deviations_are_told_over_the_range_that_the_loudspeaker_plays():
    level = rolled_off(70.0, 4, modes_db=0.0) + bump(150, 5, 0.3)
    shape = shape_of(
        "L",
        SeatResponses.of(np.repeat(level[None], 4, axis=0)),
        at_hz=GRID,
        sample_rate_hz=RATE,
        correction=Correction(limits=Limits(from_hz=20, to_hz=500)),
    )
    assert shape.judged_hz[0] == pytest.approx(70, rel=0.15)
    assert shape.judged_hz[1] == 500
    assert shape.before_deviation_db < 4  # from 20 Hz it would be 16 dB
    # Half an octave remains where it ends beyond the range.
    assert judged_range_hz(Limits(from_hz=20, to_hz=60), 200.0) == (pytest.approx(60 / np.sqrt(2)), 60)


def test_subs_have_a_range_of_their_own():
    correction = Correction(limits=Limits(from_hz=35, to_hz=500))
    assert (correction.limits_for("Sub1").from_hz, correction.limits_for("Sub1").to_hz) == (20, 120)
    own = replace(correction, by_channel={"Sub1": CorrectionSettings(limits=Limits(from_hz=28, to_hz=90))})
    assert (own.limits_for("Sub1").from_hz, own.limits_for("Sub1").to_hz) == (28, 90)


def test_a_lower_target_asks_for_less_boost_and_costs_loudness():
    # A hill of 6 dB and a dip of 6 dB at every spot.
    level = bump(60, 6, 0.3) + bump(200, -6, 0.3)
    needs = Needs(error_db=np.repeat(-level[None], 4, axis=0), weight=np.full(4, 0.25))
    rows = target_levels(GRID, needs, Limits(to_hz=500), range_hz=(30, 500), at_level_db=-20.0)
    assert [row.level_db for row in rows] == [-20 - row.lowered_db for row in rows]
    assert rows[0].boost_db == pytest.approx(6, abs=0.1)
    at_six = rows[-1]
    assert at_six.lowered_db == 6
    assert at_six.boost_db == pytest.approx(0, abs=0.1)  # cuts alone reach the bottom of the dip
    assert at_six.cuts_alone_db < 0.1
    assert rows[0].cuts_alone_db > 1
    assert np.diff([row.lost_db for row in rows]).min() > 0
    assert (
        target_levels(
            GRID, Needs(error_db=-level[None], weight=np.ones(1)), Limits(), range_hz=(30, 500), at_level_db=0.0
        )
        == ()
    )


# What belongs together

LATE = FoundConvolution(at_hz=(20.0, 200.0, 20_000.0), level_db=(0.0, -3.0, 0.0), phase="linear", duration_s=0.1)
EARLY = FoundConvolution(at_hz=(20.0, 200.0, 20_000.0), level_db=(0.0, -3.0, 0.0))


def test_channels_wait_for_the_latest_convolution():
    # A linear-phase filter of 100 ms is late by half of that; one of minimum phase, and bands, by nothing.
    correction = Correction(convolutions={"L": LATE, "R": EARLY}, bands={"C": ()})
    waits = [correction.wait_s(c, sample_rate_hz=RATE) for c in ("L", "R", "C", "Sub1")]
    half_s = 2399 / RATE  # the middle of 4,799 taps: a symmetric filter has an odd number
    assert waits == pytest.approx([0.0, half_s, half_s, half_s])
    alignment = Alignment(channels={"R": ChannelAlignment(delay_s=0.002)})
    assert settings_of(alignment, correction, "R", sample_rate_hz=RATE).delay_s == pytest.approx(0.002 + half_s)
    assert Correction(convolutions={"L": LATE, "R": LATE}).wait_s("L", sample_rate_hz=RATE) == 0


@pytest.mark.parametrize("phase", ["linear", "mixed"])
def test_a_convolution_that_a_device_cuts_is_late_by_what_it_is(phase):
    # 4,096 taps of 48 kHz: the peak is in their middle, 42.6 ms, whatever length was asked for.
    taps = 4096
    late = replace(
        LATE, phase=phase, duration_s=0.3, before_s=0.1, compensated_hz=(20.0, 300.0), compensated_rad=(0.0, 0.0)
    )
    impulse = late.impulse(sample_rate_hz=RATE, most_samples=taps)
    delay_s = late.delay_s(sample_rate_hz=RATE, most_samples=taps)
    assert np.argmax(np.abs(impulse)) == pytest.approx(delay_s * RATE, abs=1)
    device = ProcessorLimits(name="Small", taps=taps)
    correction = Correction(convolutions={"L": late}, bands={"R": ()})
    waits = settings_of(Alignment(), correction, "R", sample_rate_hz=RATE, device=device).delay_s
    assert waits == pytest.approx(np.argmax(np.abs(impulse)) / RATE, abs=1 / RATE)


@pytest.mark.parametrize("step_ms", [0.01, 0.02, 0.125, 0.5])
def test_what_is_proposed_is_a_multiple_of_the_delay_step(step_ms):
    device = ProcessorLimits(name="Coarse", taps=8192, delay_step_s=step_ms / 1000)
    step_s = delay_step_s(device, sample_rate_hz=RATE)
    rng = np.random.default_rng(2)
    correction = Correction(convolutions={"L": LATE}, bands={})
    for arrivals in rng.uniform(0.003, 0.012, (50, 3)):
        alignment_table = table_of_arrivals(
            [
                ChannelReading(channel=c, level_db=0.0, arrival_s=s, polarity="normal")
                for c, s in zip("LRC", arrivals, strict=True)
            ],
            delay_step_s=step_s,
        )
        alignment = with_table(Alignment(), alignment_table, delay_step_s=step_s)
        for channel in "LRC":
            for first in (None, correction):
                settings = settings_of(alignment, first, channel, sample_rate_hz=RATE, device=device)
                assert not [b for b in device.broken_by_channel(settings) if b.kind == "delay step"]


@pytest.mark.parametrize(("device_db", "step_db"), [(0.03, 0.12), (0.1, 0.1), (0.25, 0.25), (0.5, 0.5)])
def test_trims_are_proposed_in_steps_of_the_device(device_db, step_db):
    device = ProcessorLimits(name="Coarse", trim_step_db=device_db)
    assert trim_step_db(device) == pytest.approx(step_db)


def test_what_gets_bands_does_not_convolve_any_more():
    band = Band(filter=BandFilter(frequency_hz=60, gain_db=-3, q=2))
    correction = Correction(convolutions={"L": LATE, "C": EARLY}, bands={"R": (band,)})
    copied = correction.with_copies("R", ["C"])
    assert set(copied.convolutions) == {"L"}
    assert copied.filters("C") == copied.filters("R")
    assert copied.bands["C"][0].id != copied.bands["R"][0].id
    assert Correction(linked=True, convolutions={"L": LATE, "R": EARLY}).with_pairs_alike().convolutions["R"] == LATE


def test_a_correction_counts_as_much_as_it_is_of_what_sounds():
    # Half of the power is the channel's own everywhere: 6 dB less of it leave 10 lg((0.25 + 1) / 2) = -2.04 dB.
    level = np.zeros((4, GRID.size))
    band = BandFilter(frequency_hz=60, gain_db=-6, q=2)
    own = chain_level_db([band], at_hz=GRID, sample_rate_hz=RATE)
    corrected = 10 * np.log10((10 ** (own / 10) + 1) / 2)
    heard = SeatResponses(
        level_db=level,
        weights=np.ones(4),
        share=np.full(GRID.size, 0.5),
        corrected_db=np.repeat(corrected[None], 4, axis=0),
    )
    shape = shape_of(
        "C", heard, at_hz=GRID, sample_rate_hz=RATE, correction=Correction(bands={"C": (Band(filter=band),)})
    )
    assert shape.effect_db.min() == pytest.approx(10 * np.log10(1.25 / 2), abs=0.05)
    found = expectation_of(shape, Correction(bands={"C": (Band(filter=band),)}), sample_rate_hz=RATE)
    by_hand = deviations_db(
        np.zeros((1, GRID.size)), shape.effect_db, at_hz=GRID, range_hz=(20, 500), level_band_hz=(200, 2000)
    )[0]
    assert found.after_db == pytest.approx(by_hand)


def uneven(spots=5):
    """Spots that share a hill and differ besides."""
    rng = np.random.default_rng(9)
    own = [np.convolve(rng.normal(0, 10, GRID.size), np.ones(12) / 12, "same") for _ in range(spots)]
    return bump(80, 6, 0.3) + np.array(own)


def test_bands_without_a_spot_follow_the_correction_without_it():
    limits = Limits(bands=6)
    needs = Needs.of(uneven(), FLAT, at_hz=GRID, band_hz=(200, 2000))
    plan = plan_correction(GRID, needs, FLAT, limits=limits)
    filters = fit_bands(plan, limits=limits, sample_rate_hz=RATE).filters
    moved = fit_left_out(plan, filters, limits=limits, sample_rate_hz=RATE, at_hz=GRID)
    bands = chain_level_db(filters, at_hz=GRID, sample_rate_hz=RATE)
    inside = (GRID > 20) & (GRID < 500)
    for row, options in zip(moved, plan.without_each_db, strict=True):
        missed = [np.sqrt(np.mean((plan.weight * (options - first) ** 2)[inside])) for first in (bands, bands + row)]
        assert missed[1] < missed[0]


@pytest.mark.parametrize(
    "correction",
    [
        Correction(bands={"C": (Band(filter=BandFilter(frequency_hz=80, gain_db=-5, q=2)),)}),
        Correction(convolutions={"C": EARLY}),
    ],
)
def test_what_only_others_play_is_not_expected_to_change(correction):
    levels = uneven()
    heard = SeatResponses(level_db=levels, weights=np.ones(len(levels)), share=np.zeros(GRID.size), corrected_db=levels)
    shape = shape_of("C", heard, at_hz=GRID, correction=correction, sample_rate_hz=RATE)
    found = expectation_of(shape, correction, sample_rate_hz=RATE)
    assert found.before_db == found.after_db == found.after_at_new_spots_db
    alone = shape_of("C", SeatResponses.of(levels), at_hz=GRID, correction=correction, sample_rate_hz=RATE)
    assert expectation_of(alone, correction, sample_rate_hz=RATE).after_at_new_spots_db != found.after_db
