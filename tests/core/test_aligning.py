"""Levels as asked for, arrivals against the plan, polarity of pairs, and what main channels and subs make together."""

import numpy as np
import pytest

from dolce.core.alignment import (
    ChannelReading,
    LevelOptions,
    alike,
    beyond_possible_s,
    common_polarity,
    direct_spectrum,
    judged_together,
    matched_levels_db,
    mid_level_db,
    off_plan,
    pair_differences,
    seat_arrivals,
    table_of_arrivals,
)
from dolce.core.alignment.crossover_frequency import distorts_below_hz, falls_off_hz, proposed_crossover_hz
from dolce.core.dsp import crossover_sides
from dolce.core.processor import BassManagement, ChannelSettings, Crossover
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.response import ImpulseResponse
from dolce.core.subs import SubGroup, SubSetting, SummationLoss, best_of, by_distance, smoothing
from dolce.core.tuning import (
    SHOWN_HZ,
    SUM_HZ,
    Alignment,
    ChannelAlignment,
    Outputs,
    Responses,
    changed_outputs,
    crossover_sum,
    main_channels_later_s,
    summation_losses_of,
    with_table,
)
from dolce.errors import InvalidValue

RATE = 48_000


def reading(channel, level, arrival, **more):
    return ChannelReading(channel=channel, level_db=level, arrival_s=arrival, polarity="normal", **more)


def test_levels_follow_reference_offsets_and_what_a_processor_can_turn_up():
    readings = [reading("L", -3.0, 0.010), reading("R", -1.0, 0.011), reading("Ls", -2.0, 0.012)]

    def trims(**options):
        alignment_table = table_of_arrivals(
            readings, delay_step_s=1 / RATE, options=LevelOptions(**options), highest_trim_db=1.5
        )
        return {r.reading.channel: (r.trim_db, round(r.short_db, 3)) for r in alignment_table.channel_rows}

    assert trims() == {"L": (0.0, 0.0), "R": (-2.0, 0.0), "Ls": (-1.0, 0.0)}
    # 3 dB under the fronts: still nothing is turned up.
    assert trims(offsets_db={"surrounds": -3.0}) == {"L": (0.0, 0.0), "R": (-2.0, 0.0), "Ls": (-4.0, 0.0)}
    # Brought to R, L needs 2 dB and gets 1.5.
    assert trims(reference="R") == {"L": (1.5, 0.5), "R": (0.0, 0.0), "Ls": (1.0, 0.0)}
    late = table_of_arrivals(readings, delay_step_s=1 / RATE, options=LevelOptions(lip_sync_s=0.04))
    assert [round(r.delay_s * 1000, 3) for r in late.channel_rows] == [42.0, 41.0, 40.0]
    for wrong in ({"band_hz": (2000.0, 500.0)}, {"offsets_db": {"subs": 40.0}}, {"lip_sync_s": 1.0}):
        with pytest.raises(InvalidValue):
            LevelOptions(**wrong)


@pytest.mark.parametrize(
    ("band_hz", "fits"),
    [((100, 142), True), ((100, 141), False), ((19, 200), False), ((20, 20_000), True), ((100, 20_001), False)],
)
def test_a_band_of_levels_is_half_an_octave_wide_and_within_hearing(band_hz, fits):
    if fits:
        assert LevelOptions(band_hz=band_hz).band_hz == band_hz
    else:
        with pytest.raises(InvalidValue, match="no band to match levels in"):
            LevelOptions(band_hz=band_hz)


def test_what_does_not_arrive_as_drawn_is_named_with_the_likeliest_reason():
    far = {"L": 3.0, "R": 3.0, "C": 2.8, "Ls": 2.0, "Rs": 2.5}

    def off(changed):
        arrivals = {c: 0.005 + d / 343 for c, d in {**far, **changed}.items()}
        return [(item.channel, item.reason, item.other) for item in off_plan(arrivals, far, speed_m_s=343.0)]

    assert off({}) == []
    assert off({"Rs": 2.75}) == [("Rs", "place", "")]  # a quarter of a metre
    assert off({"C": 2.8 + 343 * 0.005}) == [("C", "delay", "")]  # 5 ms late: nobody mistypes 1.7 m
    assert off({"C": 2.8 - 343 * 0.005}) == [("C", "delay of others", "")]
    assert sorted(off({"Ls": 3.0, "L": 2.0})) == [("L", "wire", "Ls"), ("Ls", "wire", "L")]
    (further,) = off_plan({c: 0.005 + d / 343 for c, d in {**far, "Rs": 2.75}.items()}, far, speed_m_s=343.0)
    assert further.off_m == pytest.approx(0.25, abs=1e-6)
    assert off_plan({"L": 0.1, "R": 0.2}, far, speed_m_s=343.0) == []


@pytest.mark.parametrize(
    ("normal", "inverted", "unsure", "together"),
    [
        (5, 0, 0, "normal"),
        (4, 1, 0, "normal"),
        (3, 2, 0, "unsure"),
        (2, 3, 0, "unsure"),
        (1, 4, 0, "inverted"),
        (0, 5, 0, "inverted"),
        (2, 0, 3, "normal"),
        (1, 0, 2, "unsure"),  # a third of the takes is too few
        (0, 0, 4, "unsure"),
    ],
)
def test_takes_of_a_channel_must_agree_on_its_polarity(normal, inverted, unsure, together):
    assert common_polarity(["normal"] * normal + ["inverted"] * inverted + ["unsure"] * unsure) == together


def test_polarity_follows_a_mate_and_contradictions_are_unsure():
    def judged(own, value):
        return {c: (j.polarity, j.mate) for c, j in judged_together(own, {("L", "R"): value}).items()}

    assert judged({"L": "normal", "R": "unsure"}, 0.9)["R"] == ("normal", "L")
    assert judged({"L": "unsure", "R": "inverted"}, -0.8)["L"] == ("normal", "R")
    assert judged({"L": "normal", "R": "inverted"}, -0.9) == {"L": ("normal", ""), "R": ("inverted", "")}
    assert {p for p, _ in judged({"L": "normal", "R": "normal"}, -0.9).values()} == {"unsure"}
    assert judged({"L": "normal", "R": "unsure"}, 0.4)["R"] == ("unsure", "")


def test_two_alike_are_alike_and_turned_ones_opposite_whatever_stands_behind():
    rng = np.random.default_rng(1)
    click = np.zeros(RATE // 10)
    click[480:520] = rng.normal(size=40)
    late = np.zeros_like(click)
    late[1200:1300] = rng.normal(size=100) * 3  # a reflection, louder than the sound

    def spectrum(samples, at):
        return direct_spectrum(ImpulseResponse(sample=samples, sample_rate_hz=RATE, start_s=0.0), at)

    item = spectrum(click, 0.010)
    assert alike(item, spectrum(np.roll(click, 96) + late, 0.012)) > 0.9
    assert alike(item, spectrum(-np.roll(click, 96) + late, 0.012)) < -0.9


def test_a_corner_leaves_a_main_room_for_its_slope_and_dips_are_not_its_end():
    frequency = np.geomspace(20, 20_000, 600)
    bookshelf = -10 * np.log10(1 + (70 / frequency) ** 8)  # 24 dB/octave below 70 Hz: -3 dB there
    dip = bookshelf - 12 * np.exp(-((np.log2(frequency / 140) / 0.1) ** 2))
    assert falls_off_hz(frequency, bookshelf) == pytest.approx(70 * (10**0.6 - 1) ** (-1 / 8), rel=0.03)
    assert falls_off_hz(frequency, dip) == pytest.approx(falls_off_hz(frequency, bookshelf), rel=0.01)
    assert proposed_crossover_hz(falls_off_hz(frequency, dip)) == 80
    assert proposed_crossover_hz(falls_off_hz(frequency, np.zeros(600))) == 60
    # Harmonics over 3 % below 95 Hz, but for what noise alone would read.
    total, noise = np.where(frequency < 95, -20.0, -50.0), np.full(600, -60.0)
    assert distorts_below_hz(frequency, total, noise) == pytest.approx(95, rel=0.02)
    assert distorts_below_hz(frequency, total, noise + 38) is None
    assert proposed_crossover_hz(50.0, 95.0) == 100


def flat_room(*channels):
    """Responses of 1 at one spot, no flight."""
    return Responses(
        frequency_hz=SUM_HZ,
        sample_rate_hz=RATE,
        spots=(1,),
        channels={c: np.ones((1, SUM_HZ.size), dtype=complex) for c in channels},
    )


def test_a_linkwitz_riley_hands_over_without_loss_and_a_turned_sub_cancels_at_the_corner():
    # S. H. Linkwitz, JAES 24 (1976): each half 6.02 dB down at the corner, in phase, the sum flat.
    bass = BassManagement(crossover=Crossover(frequency_hz=80.0), subs=("Sub1",), sub_gain_db=0.0)
    alone = np.ones((1, 1))
    for subs_polarity, loss in (("normal", 0.0), ("inverted", -4.0)):
        outputs = Outputs(settings={"Sub1": ChannelSettings(polarity=subs_polarity)}, bass=bass)
        found = crossover_sum(outputs, flat_room("L", "Sub1"), "L", seats=alone)
        at = int(np.argmin(np.abs(SHOWN_HZ - 80)))
        assert found.main_db[0, at] == pytest.approx(-6.02, abs=0.15)
        assert found.subs_db[0, at] == pytest.approx(-6.02, abs=0.15)
        if subs_polarity == "normal":
            assert np.abs(found.sum_db).max() < 0.01
            assert found.loss_db[0] == pytest.approx(0.0, abs=0.01)
            assert found.grades == ("",)
        else:
            assert found.sum_db[0, at] < -25
            assert found.loss_db[0] < loss
            assert found.grades == ("much",)
    # Butterworth's halves are 3.01 dB down and 90 degrees apart... of order 2 they add up to 3 dB more.
    second = BassManagement(
        crossover=Crossover(frequency_hz=80.0, kind="butterworth", order=2), subs=("Sub1",), sub_gain_db=0.0
    )
    at_80 = crossover_sum(Outputs(settings={}, bass=second), flat_room("L", "Sub1"), "L", seats=alone)
    assert at_80.sum_db[0, at] == pytest.approx(3.01, abs=0.1)


def test_the_group_against_the_mains_finds_a_delay_that_was_put_in():
    bass = BassManagement(crossover=Crossover(frequency_hz=80.0), subs=("Sub1",), sub_gain_db=0.0)
    room = flat_room("L", "R", "Sub1")
    room.channels["Sub1"][:] = -np.exp(2j * np.pi * SUM_HZ * 0.004)  # early by 4 ms, and turned round
    losses = summation_losses_of(Outputs(settings={}, bass=bass), room, ("L", "R"), rows=np.array([0]))
    best = best_of(losses, -0.01, 0.01)
    assert best.delay_s == pytest.approx(0.004, abs=2e-5)
    assert best.polarity == -1
    assert best.loss_db == pytest.approx((0.0, 0.0), abs=0.01)


def test_an_alignment_is_put_together_so_that_no_delay_is_negative_and_all_are_on_steps():
    alignment_table = table_of_arrivals(
        [reading("L", -3.0, 0.010), reading("R", -1.0, 0.012), reading("subs", 4.0, 0.012, is_sub=True)],
        delay_step_s=1 / RATE,
    )
    group = SubGroup.of(
        {"Sub1": SubSetting(gain_db=-2.0), "Sub2": SubSetting(delay_s=0.005, polarity=-1)}, how="search"
    ).against_main_channels(delay_s=-0.003, polarity=-1)
    made = with_table(Alignment(subs=group), alignment_table, delay_step_s=0.0005)
    delays = {channel: round(item.delay_s * 1000, 6) for channel, item in made.channels.items()}
    assert delays == {"L": 5.0, "R": 3.0, "Sub1": 0.0, "Sub2": 5.0}
    assert main_channels_later_s(made) == pytest.approx(0.003)
    assert {c: item.trim_db for c, item in made.channels.items()} == {"L": 0.0, "R": -2.0, "Sub1": -9.0, "Sub2": -7.0}
    assert {c: item.polarity for c, item in made.channels.items() if item.polarity == "inverted"} == {
        "Sub1": "inverted"
    }


def test_two_alignments_differ_where_outputs_do():
    def of(**channels):
        return Alignment(channels={c: ChannelAlignment(**item) for c, item in channels.items()})

    before = of(L={"trim_db": -1.0}, R={"delay_s": 0.002}, C={})
    after = of(L={"trim_db": -3.0}, R={"delay_s": 0.00201}, C={"polarity": "inverted"}, Ls={})
    assert [(output.channel, output.trim_db, output.turned) for output in changed_outputs(before, after)] == [
        ("L", -2.0, False),
        ("C", 0.0, True),
    ]


def test_subs_by_distance_arrive_together():
    group = by_distance({"Sub1": 3.43, "Sub2": 1.715}, speed_m_s=343.0)
    assert {sub: item.delay_s for sub, item in group.settings.items()} == {"Sub1": 0.0, "Sub2": 0.005}
    for wrong in ({"Sub1": SubSetting(gain_db=-80.0)}, {"Sub1": SubSetting(), "Sub2": SubSetting(delay_s=0.9)}):
        with pytest.raises(InvalidValue):
            SubGroup.of({**wrong, "Sub3": SubSetting()}, how="by hand")


@pytest.mark.parametrize(
    ("arrival_ms", "known", "beyond_ms"),
    [
        (10, True, 0),
        (6, True, 0),
        (-140, True, -145),
        (-140, False, -145),
        (60, True, 0),
        (85, True, 13),
        (85, False, 0),
    ],
)
def test_an_arrival_before_sound_can_be_there_is_found_out(arrival_ms, known, beyond_ms):
    # Two speakers 10 and 12 ms away: 5 ms earlier and 60 ms later are possible, any later where a latency is in it.
    found = beyond_possible_s(arrival_ms / 1000, [0.010, 0.012], latency_known=known)
    assert found == pytest.approx(beyond_ms / 1000, abs=1e-9)


def test_the_crossover_is_found_for_the_spots_that_weigh():
    # At one spot the subs arrive 3 ms later than the main, at the other 3 ms earlier: the heavier one decides.
    at = SUM_HZ[(SUM_HZ > 35) & (SUM_HZ < 180)]
    high, low = crossover_sides(80, at)
    points = 40 * 2 ** (np.arange(49) / 24)
    group = np.array([low * np.exp(-2j * np.pi * at * late) for late in (0.003, -0.003)])
    main_channels = np.array([[high, high]])
    for weights, expected in (([1.0, 0.05], -0.003), ([0.05, 1.0], 0.003)):
        found = best_of([SummationLoss(at, main_channels, group, smoothing(at, points), weights)], -0.005, 0.005)
        assert found.delay_s == pytest.approx(expected, abs=2e-4)
        assert found.polarity == 1


def test_of_two_delays_that_add_up_alike_the_nearer_one_is_taken():
    # 9 ms is exact; half a period of 80 Hz earlier, inverted, they add up within 0.01 dB.
    at = np.arange(79.0, 81.01, 0.25)
    group = np.exp(2j * np.pi * at * 0.009)[None, :]
    join = SummationLoss(
        at, np.ones((1, 1, at.size), dtype=complex), group, smoothing(at, np.array([79.5, 80.0, 80.5])), [1.0]
    )
    assert best_of([join], -0.012, 0.012).delay_s == pytest.approx(0.009, abs=1e-4)
    nearer = best_of([join], -0.012, 0.012, per_s_db=30.0)
    assert (nearer.delay_s, nearer.polarity) == (pytest.approx(0.009 - 0.5 / 80, abs=2e-4), -1)


HUMP_DB = 8.0


def rooms_curves(names, *, seed=1, hump=None, spots=5):
    """Curves of channels that differ by 1.5 dB in 1/3-octave bands, as in rooms; one with a hump at 2 kHz."""
    rng = np.random.default_rng(seed)
    mids = np.geomspace(20, 20_000, 31)
    found = {}
    for name in names:
        rows = []
        own = rng.normal(0, 1.0, 31)
        for _ in range(spots):
            rows.append(np.interp(np.log(GRID), np.log(mids), own + rng.normal(0, 1.0, 31)))
        found[name] = np.array(rows)
    if hump:
        found[hump] = found[hump] + HUMP_DB * np.exp(-((np.log2(GRID / 2000) / 0.35) ** 2))
    return found


@pytest.mark.parametrize("names", [("L", "R"), ("L", "R", "C", "Ls", "Rs")])
def test_a_hump_that_is_left_pulls_no_trim(names):
    plain, humped = (
        {name: item.mean(axis=0) for name, item in rooms_curves(names, hump=hump).items()} for hump in (None, names[-1])
    )
    before, after = matched_levels_db(GRID, plain), matched_levels_db(GRID, humped)
    moved = [after[name] - before[name] - (after["L"] - before["L"]) for name in names]
    # By pink noise from 500 Hz to 2 kHz alone it would be 2 dB.
    assert mid_level_db(GRID, humped[names[-1]]) - mid_level_db(GRID, plain[names[-1]]) > 1.7
    assert np.abs(moved).max() < 0.5


def test_levels_are_those_of_pink_noise_where_nothing_stands_out():
    curves = {name: item.mean(axis=0) for name, item in rooms_curves(("L", "R", "C", "Ls"), seed=3).items()}
    assert matched_levels_db(GRID, curves) == pytest.approx({n: mid_level_db(GRID, c) for n, c in curves.items()})


def test_a_pair_is_held_against_each_other_in_third_octaves():
    curves = rooms_curves(("L", "R", "Ls", "Rs"), hump="Rs")
    first, *others = pair_differences(GRID, curves, np.ones(5))
    assert (first.louder, first.softer, first.stands_out) == ("Rs", "Ls", True)
    assert first.at_hz == pytest.approx(2000, rel=0.02)
    assert first.value_db == pytest.approx(HUMP_DB, abs=first.error_db)
    assert [other.stands_out for other in others] == [False]


def test_a_pair_that_differs_in_level_alone_is_no_difference_of_the_pair():
    curves = rooms_curves(("L", "R"), seed=4)
    plain = pair_differences(GRID, curves, np.ones(5))
    louder = pair_differences(GRID, {**curves, "R": curves["R"] + 8.0}, np.ones(5))
    assert [item.value_db for item in louder] == pytest.approx([item.value_db for item in plain], abs=1e-9)


def test_pairs_of_rooms_are_rarely_told_to_differ():
    on_progress = sum(
        difference.stands_out
        for seed in range(200)
        for difference in pair_differences(GRID, rooms_curves(("L", "R"), seed=seed, spots=3), np.ones(3))
    )
    assert on_progress <= 4


def heard_at_a_seat(rng, speakers, spots, *, placed_within=0.02, typed_off=0.0):
    """Arrivals with the microphone put by hand, and what the plan says; sound travels 343 m/s."""
    moved = rng.normal(size=spots.shape)
    moved /= np.linalg.norm(moved, axis=1, keepdims=True)
    moved *= placed_within * rng.uniform(0, 1, (len(spots), 1)) ** (1 / 3)
    late = rng.uniform(0, 1e-3, len(spots))  # of a clock that starts anew at every spot
    truly = {c: np.linalg.norm(spots + moved - place, axis=1) / 343 + late for c, place in speakers.items()}
    typed = {c: place + typed_off * rng.normal(size=3) for c, place in speakers.items()}
    by_plan = {c: np.linalg.norm(spots - place, axis=1) / 343 for c, place in typed.items()}
    return seat_arrivals(truly, by_plan, {c: float(own[0]) for c, own in by_plan.items()})


SPEAKERS = {"L": np.array([1.2, 0.6, 1.1]), "R": np.array([3.8, 0.6, 1.1]), "Rs": np.array([4.2, 5.0, 1.4])}
RING = np.array(
    [
        (2.5, 3.0, 1.2),
        *(
            (2.5 + 0.3 * np.sin(a), 3.0 + 0.3 * np.cos(a), 1.2 + 0.1 * np.cos(2 * a))
            for a in 2 * np.pi * np.arange(8) / 8
        ),
    ]
)


@pytest.mark.parametrize("spots", [2, 4, 9])
def test_an_arrival_at_a_seat_is_as_sure_as_is_said(spots):
    # A microphone up to 2 cm off moves opposite channels apart by 26 us on every axis (standard deviation, each way).
    rng = np.random.default_rng(5)
    true = {c: np.linalg.norm(RING[0] - place) / 343 for c, place in SPEAKERS.items()}
    for item, other in (("L", "Rs"), ("L", "R")):
        held, off = [], []
        for _ in range(400):
            found = heard_at_a_seat(rng, SPEAKERS, RING[:spots])
            wrong = (found.arrival_s[item] - found.arrival_s[other]) - (true[item] - true[other])
            held.append(abs(wrong) <= found.error_s(item, other))
            off.append(wrong)
        assert 0.91 < np.mean(held) < 0.99, (item, other)
        assert np.std(off) < 60e-6 / np.sqrt(spots)


def test_places_that_were_typed_wrong_hardly_move_an_arrival_by_all_spots():
    # 20 cm off on each axis is a plan drawn by eye; the ring around the seat cancels it.
    rng = np.random.default_rng(6)
    true = {c: np.linalg.norm(RING[0] - place) / 343 for c, place in SPEAKERS.items()}
    for _ in range(100):
        found = heard_at_a_seat(rng, SPEAKERS, RING, placed_within=0.0, typed_off=0.2)
        apart = (found.arrival_s["L"] - found.arrival_s["Rs"]) - (true["L"] - true["Rs"])
        assert abs(apart) < 20e-6


def test_of_one_spot_an_arrival_is_that_of_the_take():
    found = seat_arrivals({"L": [0.01], "R": [0.0102]}, {"L": [0.008], "R": [0.009]}, {"L": 0.008, "R": 0.009})
    assert found.arrival_s == pytest.approx({"L": 0.01, "R": 0.0102})
    assert found.error_s("L", "R") == pytest.approx(0.01e-3)
    assert seat_arrivals({}, {}, {}).arrival_s == {}
