"""The common bass: gradients against differences, filters against their transform, and alike seats where nobody took
anything."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest
import scipy

from dolce.core.acoustics import modal_transfer
from dolce.core.bass import BassAim, BassMeasure, BassTakes, MainChannel, SearchSteps, bass_of, folds_of, shared_bass
from dolce.core.bass.cost import BassCost, Priorities
from dolce.core.bass.lattice import FREQUENCY_HZ, filter_at, spectra_of_taps, spectrum_of, tap_count
from dolce.core.bass.search import searched
from dolce.core.dsp import mid_bands
from dolce.core.response import ImpulseResponse
from dolce.core.subs import BassField, SearchLimits, found_at, search
from dolce.errors import InvalidValue

RATE = 480  # of the lattice
ROOM_M = (4.2, 5.6, 2.6)
SEATS_M = {"main": (2.0, 3.0, 1.2), "second": (2.8, 3.9, 1.2)}
AROUND_M = ((0, 0, 0), (0.2, 0.05, 0.05), (-0.2, 0.1, -0.05), (0.05, -0.2, 0.0))
NOT_TAKEN_M = ((0.12, 0.12, 0.0), (-0.1, -0.12, 0.04), (-0.15, 0.02, 0.0))
LOUDSPEAKERS_M = {"L": (0.9, 0.6, 1.1), "R": (3.3, 0.6, 1.1), "Sub1": (0.2, 0.2, 0.2), "Sub2": (4.0, 5.4, 0.2)}
QUICK = {"length_s": 0.3, "latency_s": 0.015}


def spots_of(around):
    return [(seat, tuple(np.add(place, off))) for seat, place in SEATS_M.items() for off in around]


@cache
def transfer_to(places, speed_m_s=343.0):
    """A box whose modes ring for 0.35 s, by the sum over its modes; loudspeakers fall off below 25 Hz."""
    inside = FREQUENCY_HZ <= 200
    heard = np.zeros((len(LOUDSPEAKERS_M), len(places), FREQUENCY_HZ.size), dtype=complex)
    heard[..., inside] = modal_transfer(
        np.array(list(LOUDSPEAKERS_M.values())),
        np.array(places),
        size_m=ROOM_M,
        frequency_hz=np.maximum(FREQUENCY_HZ[inside], 1.0),
        reverberation_s=0.35,
        speed_m_s=speed_m_s,
    )
    b, a = scipy.signal.butter(2, 2 * np.pi * 25, "high", analog=True)
    fall = scipy.signal.freqs(b, a, 2 * np.pi * FREQUENCY_HZ)[1]
    return np.fft.irfft(heard * fall * np.clip((200 - FREQUENCY_HZ) / 40, 0, 1), axis=-1)


def responses_at(spots, *, gains=None, speed_m_s=343.0):
    return {
        name: [
            ImpulseResponse(sample=(gains or {}).get(name, 1.0) * row, sample_rate_hz=RATE, start_s=0.0) for row in rows
        ]
        for name, rows in zip(LOUDSPEAKERS_M, transfer_to(tuple(place for _, place in spots), speed_m_s), strict=True)
    }


def problem(around=AROUND_M, *, gains=None, speed_m_s=343.0, **more):
    """Takes at spots, and what is wanted there."""
    spots = spots_of(around)
    rows = responses_at(spots, gains=gains, speed_m_s=speed_m_s)
    ends = dict.fromkeys(("L", "R"), 35.0) | dict.fromkeys(("Sub1", "Sub2"), 20.0)
    takes = BassTakes.of(rows, subs=["Sub1", "Sub2"], seat_of=[seat for seat, _ in spots], ends_hz=ends)
    mains = [
        MainChannel.of(
            rows[name],
            level_db=0.0,
            delay_s=QUICK["latency_s"],
            polarity=1,
            arrival_s=[np.linalg.norm(np.subtract(place, LOUDSPEAKERS_M[name])) / 343.0 for _, place in spots],
        )
        for name in "LR"
    ]
    aim = BassAim.of(
        takes,
        mains,
        target_db=np.zeros(FREQUENCY_HZ.size),
        hand_over_hz=100.0,
        main_seat="main",
        **{"max_loss_db": 4.0, **more},
    )
    return takes, aim


@pytest.fixture(scope="module")
def taken():
    return problem()


@pytest.fixture(scope="module")
def elsewhere():
    """The same loudspeakers at spots that no filter has seen."""
    return BassMeasure(*problem(NOT_TAKEN_M))


@pytest.fixture(scope="module")
def found(taken):
    return shared_bass(*taken, **QUICK)


@pytest.mark.parametrize("in_db", [False, True])
def test_the_slope_of_the_cost_is_that_of_differences(taken, in_db):
    takes, aim = taken
    cost = BassCost(takes, replace(aim, highest_gain_db=-30.0), Priorities())  # so that the limit counts too
    rng = np.random.default_rng(1)
    taps = 0.05 * rng.normal(size=4 * tap_count(0.2))
    toward = rng.normal(size=taps.size)
    step = 1e-6
    up, down = (cost.of_taps(taps + side * step * toward, in_db=in_db)[0] for side in (1, -1))
    assert cost.of_taps(taps, in_db=in_db)[1] @ toward == pytest.approx((up - down) / (2 * step), rel=1e-6)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_filter_at_a_rate_does_what_its_taps_say(rate):
    taps = np.random.default_rng(2).normal(size=tap_count(0.25))
    sample = filter_at(taps, sample_rate_hz=rate, length_s=0.25)
    made = ImpulseResponse(sample=sample, sample_rate_hz=rate, start_s=0.0)
    assert sample.size <= 0.25 * rate
    # Sampled, it differs by its images alone, which lie far above.
    assert spectrum_of(made) == pytest.approx(spectra_of_taps(taps), abs=1e-6 * np.abs(spectra_of_taps(taps)).max())


def test_seats_hear_alike_where_nothing_was_taken_and_more_so_than_with_one_setting_for_each_sub(found, elsewhere):
    """Against the best gain, delay and polarity of each sub at the same spots (Welti and Devantier, JAES 54, 2006)."""
    takes = elsewhere.takes
    spots = spots_of(AROUND_M)
    rows = responses_at(spots)
    field = BassField.of([rows["Sub1"], rows["Sub2"]], seat_of=[seat for seat, _ in spots], band_hz=(20.0, 100.0))
    settings = search(field, SearchLimits(max_loss_db=4.0)).settings
    subs = sum(setting.response(FREQUENCY_HZ) * takes.heard[k] for k, setting in enumerate(settings, start=2))
    present = elsewhere.of(subs)
    shared = elsewhere.of(bass_of(takes, found.taps))
    assert found_at(field, settings, SearchLimits(max_loss_db=4.0)).spread_db > 1.0
    assert shared.spread_db < 0.5 * present.spread_db
    assert shared.deviation_db < 0.6 * present.deviation_db
    assert shared.output_db > -4.5


def test_what_is_expected_elsewhere_is_near_what_is_heard_there_and_worse_than_at_the_given_spots(found, elsewhere):
    truth = elsewhere.of(bass_of(elsewhere.takes, found.taps))
    assert found.expected.low_db < found.expected.spread_db < found.expected.high_db
    assert truth.spread_db <= found.expected.high_db
    assert found.expected.deviation_db == pytest.approx(truth.deviation_db, abs=0.5)
    assert found.expected.spread_db >= found.given.spread_db
    assert found.expected.deviation_db >= found.given.deviation_db


def test_a_limit_that_the_search_gives_way_at_is_held_by_what_is_played(taken):
    takes, aim = taken
    brief = SearchSteps(whole=(20, 30), fold=(5, 5))
    found = shared_bass(takes, replace(aim, highest_gain_db=-15.0), **QUICK, search_steps=brief)
    played = found.filters.impulses(48_000).values()
    highest_db = max(20 * np.log10(np.abs(np.fft.rfft(sample, 2**19)).max()) for sample in played)
    assert highest_db == pytest.approx(-15.0, abs=0.02)


def test_limits_are_held_by_the_filters_as_they_are_saved(found):
    highest = {
        name: 20 * np.log10(np.abs(np.fft.rfft(sample, 2**18)) + 1e-9)
        for name, sample in found.filters.impulses(48_000).items()
    }
    assert max(level.max() for level in highest.values()) < 0.1
    at = np.fft.rfftfreq(2**18, 1 / 48_000)
    # Mains end at 35 Hz here; an octave below, at most -6 dB reach them.
    assert max(highest[name][(at > 5) & (at <= 17.5)].max() for name in "LR") < -6.0
    assert all(sample.size <= 0.3 * 48_000 for sample in found.filters.impulses(48_000).values())
    assert found.given.output_db == pytest.approx(-4.0, abs=0.5)
    assert found.given.early_10_db < -20
    assert found.given.early_20_db < found.given.early_10_db


def test_what_rings_on_is_told_in_decibels(taken):
    """Of exp(-t / tau) 150 ms after its beginning exp(-2 0.15 / tau) of the energy is left."""
    takes, aim = taken
    measure, tau = BassMeasure(takes, aim), 0.3
    time_s, tones_hz = np.arange(1296) / RATE, mid_bands(per_octave=3, from_hz=25, to_hz=100)
    sounds = [
        np.sin(2 * np.pi * tones_hz[:, None] * (time_s - at)) * np.exp(-(time_s - at) / tau) * (time_s > at)
        for at in aim.first_s
    ]
    ringing = np.array([np.fft.rfft(sound.sum(axis=0)) for sound in sounds])
    assert measure.of(ringing).late_db == pytest.approx(-20 * 0.15 / tau / np.log(10), abs=0.7)


def test_errors_of_life_move_the_variation_by_what_the_budget_says(taken, found):
    takes, aim = taken
    measure = BassMeasure(takes, aim)
    budget = found.budget
    assert budget.as_found_db == pytest.approx(found.given.spread_db)
    louder = takes.heard.copy()
    louder[2] *= 10 ** (1 / 20)
    heard = np.einsum("kn,ksn->sn", found.filters.spectra, louder)
    assert budget.louder_db["Sub1"] == pytest.approx(measure.of(heard).spread_db, abs=1e-3)
    # The same room with faster sound, by the sum over its modes.
    warmer = problem(speed_m_s=1.005 * 343.0)[0]
    truth = measure.of(np.einsum("kn,ksn->sn", found.filters.spectra, warmer.heard)).spread_db
    assert budget.warmer_db == pytest.approx(truth, abs=0.15)


def test_a_louder_target_asks_for_as_much_more_output(taken):
    takes, aim = taken
    softer = problem(max_loss_db=9.0)[1]
    at = {}
    for name, wanted in (("loud", aim), ("soft", softer)):
        cost = BassCost(takes, wanted, Priorities())
        made = searched(cost, steps=(60, 60), **QUICK)
        at[name] = BassMeasure(takes, wanted).of(bass_of(takes, made.taps)).output_db
    assert at["loud"] - at["soft"] == pytest.approx(5.0, abs=0.5)


def test_a_loudspeaker_wired_the_other_way_gets_its_filter_turned(taken):
    takes, aim = taken
    turned = problem(gains={"Sub2": -1.0})[0]
    straight, other = (
        BassCost(of, aim, Priorities()).of_taps(taps.ravel(), in_db=True)[0]
        for of, taps in (
            (takes, np.ones((4, 20)) * 0.02),
            (turned, np.array([1, 1, 1, -1])[:, None] * np.ones((4, 20)) * 0.02),
        )
    )
    assert straight == pytest.approx(other, rel=1e-9)


def test_one_phase_for_all_filters_changes_no_level(taken):
    takes, aim = taken
    measure = BassMeasure(takes, aim)
    bass = bass_of(takes, np.random.default_rng(3).normal(size=(4, 40)))
    phase = np.exp(1j * np.linspace(0, 40, FREQUENCY_HZ.size))
    assert measure.levels_db(bass * phase) == pytest.approx(measure.levels_db(bass), abs=1e-9)


def test_two_spots_at_one_place_hear_the_same_and_share_the_weight_of_their_seat():
    takes, aim = problem(((0, 0, 0), (0, 0, 0)))
    bass = bass_of(takes, np.random.default_rng(4).normal(size=(4, 40)))
    levels = BassMeasure(takes, aim).levels_db(bass)
    assert levels[0] == pytest.approx(levels[1])
    single = BassCost(takes.at_spots([0, 2]), aim.at_spots([0, 2]), Priorities())
    double = BassCost(takes, aim, Priorities())
    taps = 0.02 * np.random.default_rng(5).normal(size=4 * 30)
    assert double.of_taps(taps, in_db=True)[0] == pytest.approx(single.of_taps(taps, in_db=True)[0], rel=1e-9)


def test_a_mirrored_spot_hears_what_a_field_that_is_linear_in_place_has_there():
    rows = {
        "Sub1": [ImpulseResponse(sample=np.array([1.0 + k, 0]), sample_rate_hz=RATE, start_s=0.0) for k in (0, 1, 5)]
    }
    takes = BassTakes.of(rows, subs=["Sub1"], seat_of=["main"] * 3, ends_hz={"Sub1": 20.0})
    mirrored, guessed_from = takes.mirrored()
    assert guessed_from == [0, 1, 2]
    assert mirrored.heard[0, 3:, 0].real == pytest.approx([5.0, 4.0, 0.0])  # 2 * 3 - (1, 2, 6)
    assert takes.at_spots([0, 1]).mirrored()[1] == []


def test_of_every_seat_some_spots_are_left_out_and_never_the_only_one():
    folds = folds_of(["a", "a", "a", "a", "b", "b", "c"])
    assert sorted(spot for fold in folds for spot in fold) == [0, 1, 2, 3, 4, 5]
    for fold in folds:
        assert {"a", "b", "c"} == {"aaaabbc"[k] for k in range(7) if k not in fold}
    assert folds_of(["a", "b"]) == []


def test_without_a_second_spot_at_any_seat_nothing_is_claimed_of_others():
    made = shared_bass(*problem(((0, 0, 0),)), **QUICK)
    assert made.expected is None


def test_it_is_the_same_every_time_tells_how_far_it_is_and_ends_when_told(taken):
    brief = SearchSteps(whole=(10, 20), fold=(5, 5))
    heard = []
    first, second = (shared_bass(*taken, **QUICK, search_steps=brief, on_progress=heard.append) for _ in range(2))
    assert np.array_equal(first.taps, second.taps)
    half = heard[: len(heard) // 2]
    assert half == sorted(half)
    assert half[-1] == 1.0
    assert not first.stopped
    ended = shared_bass(*taken, **QUICK, stopped=lambda: True)
    assert ended.stopped
    assert np.isfinite(ended.taps).all()


def test_without_a_sub_it_says_what_is_missing(taken):
    takes, aim = taken
    with pytest.raises(InvalidValue, match="no sub takes part"):
        shared_bass(takes.of_loudspeakers([True, True, False, False]), aim, **QUICK)
