"""Alignment and correction as values: what they predict, and how a proof compares."""

from dataclasses import replace
from datetime import datetime

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.alignment import ChannelReading, match_of, table_of_arrivals, with_subs_by_plan
from dolce.core.dsp import together_db
from dolce.core.filters import BandFilter, chain_level_db, chain_samples
from dolce.core.geometry import Point, RoomSize
from dolce.core.job import Moved, Round, TakeRecord, moved_between, proposed_base
from dolce.core.processor import Crossover, Preset, ProcessorState
from dolce.core.response import Quality
from dolce.core.room import new_plan
from dolce.core.tuning import (
    Alignment,
    Band,
    ChannelAlignment,
    Correction,
    Responses,
    SeatWeighting,
    SpotLevels,
    levelled_again,
    predict,
    prove,
    response_of,
    seat_weightings_of,
    settings_of,
)
from dolce.errors import InvalidValue, NotFound

RATE = 48_000
GRID = np.geomspace(20, 20_000, 300)
BELL = BandFilter(frequency_hz=60, gain_db=-6, q=2)


def tuned(**channels: ChannelAlignment) -> Alignment:
    return Alignment(round_id=1, channels=channels)


def flat(*channels: str, spots: tuple[int, ...] = (1, 2)) -> Responses:
    return Responses(
        frequency_hz=GRID,
        sample_rate_hz=RATE,
        spots=spots,
        channels={c: np.ones((len(spots), GRID.size), dtype=complex) for c in channels},
    )


def test_a_prediction_is_what_a_processor_does_to_the_samples():
    alignment = tuned(
        L=ChannelAlignment(trim_db=-3, delay_s=0.002, polarity="inverted", high_pass=Crossover(frequency_hz=80))
    )
    correction = Correction(bands={"L": (Band(filter=BELL),)}, trims_db={"L": -0.5})
    click = np.zeros(RATE)
    click[0] = 1.0
    # The second way: the samples themselves, by SciPy's filters, shifted by whole samples.
    samples = chain_samples(
        (BELL,),
        signal.sosfilt(Crossover(frequency_hz=80).sections("high", sample_rate_hz=RATE), click),
        sample_rate_hz=RATE,
    )
    samples = -np.roll(samples, round(0.002 * RATE)) * 10 ** (-3.5 / 20)
    expected = np.array([np.sum(samples * np.exp(-2j * np.pi * f * np.arange(RATE) / RATE)) for f in GRID])
    found = predict(alignment, correction, flat("L")).channels["L"][0]
    # A second of samples holds all of the ringing but 1e-9 of it.
    assert_allclose(found, expected, atol=1e-7)


def test_channels_that_play_the_same_add_as_pressures():
    # Two equal coherent sources: +6.02 dB; with one inverted: nothing.
    both = predict(tuned(), None, flat("Sub1", "Sub2"))
    assert_allclose(both.level_db(["Sub1", "Sub2"]), 20 * np.log10(2))
    turned = predict(tuned(Sub2=ChannelAlignment(polarity="inverted")), None, flat("Sub1", "Sub2"))
    assert np.abs(turned.together(["Sub1", "Sub2"])).max() < 1e-12
    late = predict(tuned(Sub2=ChannelAlignment(delay_s=0.005)), None, flat("Sub1", "Sub2"))
    at = np.argmin(np.abs(GRID - 100))  # half a period of 100 Hz
    assert late.level_db(["Sub1", "Sub2"])[0, at] < -25
    assert_allclose(both.seat_level_db(["Sub1"], {1: 1.0}), 0)


@pytest.mark.parametrize(
    ("kind", "order", "crossover_db"),
    [("linkwitz-riley", 2, 0.0), ("linkwitz-riley", 4, 0.0), ("butterworth", 2, 3.01)],
)
def test_both_sides_of_a_crossover_add_up(kind, order, crossover_db):
    # Linkwitz 1976: second-order halves are 180 degrees apart, so one of them is inverted; then Linkwitz-Riley
    # adds up flat, Butterworth to +3.01 dB at the corner.
    crossover = Crossover(frequency_hz=80, kind=kind, order=order)
    low, high = (
        response_of(ChannelAlignment(**{side: crossover}).settings, at_hz=GRID, sample_rate_hz=RATE)
        for side in ("low_pass", "high_pass")
    )
    level = 20 * np.log10(np.abs(low + high))
    assert level[np.argmin(np.abs(GRID - 80))] == pytest.approx(crossover_db, abs=0.02)
    assert level.min() > -0.01


def test_bands_above_half_the_rate_are_left_out():
    high = BandFilter(frequency_hz=23_500, gain_db=6, q=1)
    assert_allclose(chain_level_db((high,), at_hz=GRID, sample_rate_hz=44_100), 0)
    noise = np.random.default_rng(1).standard_normal(4000)
    assert_allclose(
        chain_samples((high, BELL), noise, sample_rate_hz=44_100), chain_samples((BELL,), noise, sample_rate_hz=44_100)
    )
    assert np.abs(chain_level_db((high,), at_hz=GRID, sample_rate_hz=96_000)).max() > 3


def test_settings_join_alignment_and_correction():
    alignment = tuned(L=ChannelAlignment(trim_db=-2, delay_s=0.001), R=ChannelAlignment())
    correction = Correction(
        alignment=alignment,
        trims_db={"L": -0.4},
        bands={"L": (Band(filter=BELL), Band(filter=replace(BELL, frequency_hz=90), on=False))},
    )
    left = settings_of(alignment, correction, "L", sample_rate_hz=48_000)
    assert (left.trim_db, left.delay_s, left.filters) == (-2.4, 0.001, (BELL,))
    assert settings_of(alignment, None, "L", sample_rate_hz=48_000).filters == ()
    assert correction.stands_on(alignment)
    assert not correction.stands_on(replace(alignment, channels={}))


def test_ids_of_bands_stay_and_are_not_given_twice():
    first = Correction(bands={"L": (Band(filter=BELL), Band(filter=BELL)), "R": (Band(filter=BELL), Band(filter=BELL))})
    assert [band.id for band in first.bands["L"]] == [band.id for band in first.bands["R"]] == [1, 2]
    without = first.with_band("L", 1, None)
    assert [band.id for band in without.bands["L"]] == [2]
    with pytest.raises(NotFound, match="gone"):
        without.band("L", 1)
    more = without.with_bands("L", (*without.bands["L"], Band(filter=BELL)))
    assert [band.id for band in more.bands["L"]] == [2, 3]
    fresh = replace(more, bands={"L": (Band(filter=BELL),)})  # found anew
    assert [band.id for band in fresh.bands["L"]] == [4]


def test_every_seat_counts_by_its_weight_however_many_spots_it_has():
    seat_weighting = SeatWeighting(weights={1: 1.0, 2: 0.5, 3: 0.0})
    found = seat_weighting.spot_weights({10: 1, 11: 1, 12: 1, 20: 2, 30: 3, 40: None})
    assert found == {10: 1 / 3, 11: 1 / 3, 12: 1 / 3, 20: 0.5}
    with pytest.raises(InvalidValue, match="no seat has a weight"):
        SeatWeighting(weights={1: 0.0})


def test_seat_weightings_begin_with_all_seats_then_the_main_one():
    plan = new_plan(RoomSize(length_m=5, width_m=4, height_m=2.5))
    two = replace(
        plan,
        seats=(
            *plan.seats,
            replace(plan.seats[0], id=2, name="Bench", is_main=False, weight=0.3, place=Point(x_m=1, y_m=3, z_m=1.2)),
        ),
    )
    assert [b.name for b in seat_weightings_of(plan)] == ["All seats, weighted"]
    assert [b.weights for b in seat_weightings_of(two)] == [{1: 1.0, 2: 0.3}, {1: 1.0}, {2: 1.0}]


def test_a_proof_compares_the_same_spots_only():
    level = np.array([[0.0], [6.0], [-6.0]]) * np.ones(GRID.size)
    before = SpotLevels(spots=(1, 2, 3), level_db=level)
    predicted = SpotLevels(spots=(1, 2, 3), level_db=level - 1)
    measured = SpotLevels(spots=(2,), level_db=level[[1]] - 1)
    found = prove(
        GRID,
        before,
        predicted,
        measured,
        weights={1: 1.0, 2: 1.0, 3: 1.0},
        target_db=np.zeros(GRID.size),
        range_hz=(20, 500),
    )
    assert found.spots == (2,)
    # Averages over other spots would say 1 dB or more.
    assert found.outcome.predicted_against_measured_db == pytest.approx(0, abs=1e-9)
    assert_allclose(found.before_db, 6)
    assert (
        prove(GRID, before, predicted, measured, weights={1: 1.0}, target_db=np.zeros(GRID.size), range_hz=(20, 500))
        is None
    )


def test_levels_are_as_far_apart_after_the_bands_as_before():
    change = {"L": -0.62, "R": -0.1, "Sub1": 0.0}
    trims = levelled_again(change, step_db=0.1)
    assert max(trims.values(), default=0) <= 0
    left = [change[c] + trims.get(c, 0.0) for c in change]
    assert max(left) - min(left) <= 0.1
    assert levelled_again({"L": -3.0}, step_db=0.1) == {}


def reading(channel, level, arrival, **more):
    return ChannelReading(channel=channel, level_db=level, arrival_s=arrival, polarity="normal", **more)


def test_a_level_that_is_not_known_pulls_no_trim():
    alignment_table = table_of_arrivals(
        [reading("L", -3.0, 0.01), reading("R", -1.0, 0.011), reading("C", None, 0.012)], delay_step_s=1 / RATE
    )
    assert {r.reading.channel: r.trim_db for r in alignment_table.channel_rows} == {"L": 0.0, "R": -2.0, "C": 0.0}
    match = match_of([reading("L", -3.0, 0.01), reading("C", None, 0.012)])
    assert (match.level_db, match.arrival_s) == (None, pytest.approx(0.002))


def test_subs_that_play_together_are_matched_20_lg_n_lower_and_arrive_as_the_plan_says():
    assert together_db(1) == 0
    assert together_db(3) == pytest.approx(9.54, abs=0.005)  # 20 lg 3
    readings = with_subs_by_plan(
        [
            reading("L", 0.0, 0.0162),
            reading("R", 0.0, 0.0163),
            reading("Sub1", 0.0, 0.025, is_sub=True, together_db=together_db(2)),
            reading("Sub2", 0.0, 0.031, is_sub=True, together_db=together_db(2)),
        ],
        distance_m={"L": 2.0, "R": 2.0, "Sub1": 3.0, "Sub2": 2.5},
        speed_m_s=343.0,
    )
    # The latency is that of L and R, in the middle: 16.25 ms less 2 m of way.
    assert [r.arrival_s for r in readings[2:]] == pytest.approx([0.01625 + 1 / 343, 0.01625 + 0.5 / 343])
    alignment_table = table_of_arrivals(readings, delay_step_s=1 / RATE)
    assert [r.trim_db for r in alignment_table.channel_rows] == [0.0, 0.0, -6.0, -6.0]
    assert match_of(readings).arrival_s == pytest.approx(0.0001)  # subs were not heard: they count nothing
    assert max(r.delay_s for r in alignment_table.channel_rows) < 0.0031


def round_of(number, active="bypass", corrects=True):
    bands = (
        {"L": settings_of(Alignment(), Correction(bands={"L": (Band(filter=BELL),)}), "L", sample_rate_hz=48_000)}
        if corrects
        else {}
    )
    presets = {} if active == "bypass" else {active: Preset(name="x", cut_db=0, channels=bands)}
    state = ProcessorState(active=active, presets=presets)
    return Round(
        id=number,
        name=str(number),
        created_at=datetime(2026, 1, 1),
        state=state,
        bypassed=state.bypassed,
        corrects=state.corrects,
    )


def test_a_stray_take_in_a_later_round_is_no_new_start():
    rounds = [round_of(1), round_of(2, "A"), round_of(3)]
    assert proposed_base(rounds, {1: 18, 2: 18, 3: 1}).id == 1
    assert proposed_base(rounds, {1: 18, 3: 18}).id == 3  # as full, and later
    assert proposed_base(rounds, {2: 18}) is None


def take(channel, spot, *, speaker=(1.0, 1.0, 1.0), at=(2.0, 2.0, 1.0)):
    place = lambda p: Point(x_m=p[0], y_m=p[1], z_m=p[2])  # noqa: E731
    return TakeRecord(
        id=1,
        round_id=1,
        channel=channel,
        spot_id=spot,
        attempt=1,
        taken_at=datetime(2026, 1, 1),
        source="rig",
        sample_rate_hz=RATE,
        arrival_s=0.01,
        arrival_known=True,
        polarity="normal",
        quality=Quality(signal_to_noise_db=40, peak_dbfs=-6, clipped_samples=0),
        cautions=(),
        level_db=np.zeros(3),
        speaker_place=place(speaker),
        spot_place=place(at),
    )


def test_what_stood_at_several_places_is_named():
    apart = [take("L", 1), take("L", 2, at=(2.2, 2.0, 1.0)), take("R", 1, speaker=(3.0, 1.0, 1.0))]
    assert moved_between(apart) == Moved()
    assert moved_between([take("L", 1), take("L", 2, speaker=(1.1, 1.0, 1.0))]) == Moved(channels=("L",))
    assert moved_between([take("L", 1), take("R", 1, at=(2.1, 2.0, 1.0))]) == Moved(spots=(1,))
