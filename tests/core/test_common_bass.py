"""The common bass on its way through a processor: routes, filters at rates, corrections beside it, limits."""

from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.acoustics import modal_transfer
from dolce.core.bass import BassFigures, BassFilter, BassFilters, BassTakes, ErrorBudget
from dolce.core.bass.doubts import nodes_between, pressure_nodes
from dolce.core.bass.lattice import FREQUENCY_HZ
from dolce.core.filters import BandFilter, chain_sections
from dolce.core.processor import (
    BASS,
    EFFECTS,
    BassManagement,
    ChannelSettings,
    CommonBass,
    Convolution,
    Crossover,
    Effects,
    Preset,
    ProcessorLimits,
    Route,
)
from dolce.core.tuning import Alignment, BassRequest, ChannelAlignment, FoundBass
from dolce.core.tuning.common_bass import OutputCorrection
from dolce.devices.network.wire import plain, value_of
from dolce.words.common_bass import budget_words, doubt_words, limit_words

RATE = 48_000
LR = Crossover(frequency_hz=120.0)
TAPS = Convolution.of(np.random.default_rng(0).normal(size=480) * np.hanning(480) * 0.02, sample_rate_hz=RATE)
COMMON = CommonBass(convolutions={"L": TAPS, "Sub1": TAPS}, latency_s=0.012)
MANAGED = BassManagement(crossover=LR, subs=("Sub1",), effects=Effects(), common=COMMON, sends={"R": {"L": -3.0}})
FIGURES = BassFigures(
    spread_db=0, deviation_db=0, worst_db=0, output_db=-4, early_10_db=-30, early_20_db=-40, late_db=-12
)


def found_bass(**more):
    rng = np.random.default_rng(1)
    return FoundBass(
        request=BassRequest(),
        filters=BassFilters(
            filters=(
                BassFilter.of("L", 0.1 * rng.normal(size=150), end_hz=40.0),
                BassFilter.of("Sub1", 0.1 * rng.normal(size=150), end_hz=None),
            ),
            length_s=0.35,
            latency_s=0.012,
        ),
        **{
            "settings": {"L": ChannelSettings(trim_db=-2.0), "Sub1": ChannelSettings(trim_db=3.0)},
            "target_db_at_20": 0.0,
            "given": FIGURES,
            "subs_alone": FIGURES,
            "expected": None,
            "spots_at": {"Mixer": 3},
            **more,
        },
    )


def test_the_bass_of_every_channel_goes_to_all_that_play_it_and_its_own_sound_waits():
    own, besides, *bass = MANAGED.routes("R")
    assert own == Route(output="R", crossover=LR, side="high", delay_s=0.012)
    assert besides == Route(output="L", gain_db=-3.0, delay_s=0.012)
    assert bass == [Route(output=output, crossover=LR, convolution=TAPS) for output in ("L", "Sub1")]
    assert [(r.output, r.gain_db, r.convolution) for r in MANAGED.routes(EFFECTS)] == [
        ("L", 10.0, TAPS),
        ("Sub1", 10.0, TAPS),
    ]
    assert MANAGED.routes(BASS) == [Route(output=output, convolution=TAPS) for output in ("L", "Sub1")]
    assert MANAGED.routes("Sub1") == [Route(output="Sub1")]  # alone, to be measured
    whole = replace(MANAGED, by_channel={"R": None})
    assert whole.routes("R")[0] == Route(output="R", delay_s=0.012)  # it waits with the others


def test_a_route_does_to_samples_what_it_says_of_spectra():
    route = Route(output="L", crossover=LR, gain_db=-3.0, delay_s=0.0123, convolution=TAPS)
    click = np.zeros(RATE)
    click[0] = 1.0
    heard = 10 ** (route.gain_db / 20) * np.fft.rfft(route.played(click, sample_rate_hz=RATE))
    at_hz = np.arange(20.0, 400.0)
    assert_allclose(heard[20:400], route.response(at_hz, sample_rate_hz=RATE), atol=2e-3 * np.abs(heard).max())
    assert_allclose(route.level_db(at_hz, sample_rate_hz=RATE), 20 * np.log10(np.abs(heard[20:400])), atol=0.02)


def test_at_another_rate_than_its_filters_a_route_is_silent():
    route = Route(output="L", convolution=TAPS)
    assert not route.played(np.ones(100), sample_rate_hz=44_100).any()
    assert not route.response(np.array([50.0]), sample_rate_hz=44_100).any()
    assert route.level_db(np.array([50.0]), sample_rate_hz=44_100) < -100


@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_filters_are_the_same_at_every_rate(rate):
    found = found_bass()
    for output, taps in found.at_rate(rate).convolutions.items():
        assert taps.taps <= 0.35 * rate
        row = next(row for row in found.filters.filters if row.output == output)
        inside = (FREQUENCY_HZ > 15) & (FREQUENCY_HZ < 130)
        # A bilinear high-pass differs a little from the analogue one, and is cut at the filter's end.
        assert_allclose(
            taps.response(FREQUENCY_HZ[inside]), row.spectrum[inside], atol=0.02 * np.abs(row.spectrum).max()
        )


def test_what_a_correction_does_to_a_main_is_taken_out_of_its_bass_and_what_subs_get_put_in():
    found = found_bass()
    bands = {
        "L": (
            BandFilter(frequency_hz=150, gain_db=-6, q=2),
            BandFilter(frequency_hz=90, gain_db=3, q=1, kind="low shelf"),
        ),
        "Sub1": (BandFilter(frequency_hz=45, gain_db=-4, q=3),),
    }
    corrections = {
        "L": OutputCorrection(trim_db=-1.5, filters=bands["L"]),
        "Sub1": OutputCorrection(trim_db=0.5, filters=bands["Sub1"]),
    }
    at_hz = np.geomspace(25, 300, 60)
    turns = {
        output: 10 ** (corrections[output].trim_db / 20)
        * signal.freqz_sos(chain_sections(bands[output], sample_rate_hz=RATE), worN=at_hz, fs=RATE)[1]
        for output in bands
    }
    plain_bass, with_both = found.at_rate(RATE), found.at_rate(RATE, corrections)
    for output in ("L", "Sub1"):
        # Through its output, which corrects too, each plays the bass as found, with the correction of the subs.
        heard = with_both.convolutions[output].response(at_hz) * turns[output]
        wanted = plain_bass.convolutions[output].response(at_hz) * turns["Sub1"]
        assert_allclose(heard, wanted, atol=0.01 * np.abs(wanted).max())


def test_filters_stand_on_the_trims_delays_and_crossovers_that_they_were_found_for():
    aligned = Alignment(
        channels={"L": ChannelAlignment(trim_db=-2.0), "Sub1": ChannelAlignment(trim_db=3.0)},
        routing=replace(MANAGED, common=None),
        common_bass=found_bass(),
    )
    assert aligned.common_bass_stands
    assert aligned.routing_at(RATE).common.latency_s == 0.012
    moved = {**aligned.channels, "L": ChannelAlignment(trim_db=-2.0, delay_s=0.001)}
    for changed in (
        replace(aligned, channels=moved),
        replace(aligned, routing=replace(MANAGED, crossover=Crossover(frequency_hz=80.0))),
        replace(aligned, routing=replace(MANAGED, by_channel={"L": None})),
        replace(aligned, routing=None),
    ):
        assert not changed.common_bass_stands
    assert replace(aligned, common_bass=None).common_bass_stands


def test_a_processor_says_when_it_can_not_hold_the_filters():
    preset = Preset(name="ours", bass=MANAGED)
    broken = ProcessorLimits(name="small", bass_taps=200).broken_by(preset)
    assert [(item.kind, item.value, item.high) for item in broken] == [("bass taps", 480, 200)]
    assert ProcessorLimits(name="large", bass_taps=480).broken_by(preset) == ()
    assert ProcessorLimits(name="none").broken_by(Preset(name="ours", bass=replace(MANAGED, common=None))) == ()


def test_it_goes_over_the_network_and_comes_back_the_same():
    preset = Preset(name="ours", bass=MANAGED)
    assert value_of(Preset, plain(preset), where="test") == preset


def test_a_seat_around_a_pressure_node_is_told_from_one_beside_it():
    """Between two walls sound stands: cos(pi x / L) at the first mode, with a node in the middle (H. Kuttruff, Room
    Acoustics, 3rd ed., 1991, section 3.2, from memory)."""
    length_m, speed = 6.0, 343.0
    mode_hz = speed / (2 * length_m)
    at_mode = np.exp(-((FREQUENCY_HZ / mode_hz - 1) ** 2) / 0.05)

    def bass(places_m):
        return np.array([np.cos(np.pi * x / length_m) * at_mode + 0.02 for x in places_m], dtype=complex)

    places = {"middle": (2.8, 3.0, 3.2), "side": (1.0, 1.2, 1.4)}
    seat_of = [seat for seat, of in places.items() for _ in of]
    heard = np.concatenate([bass(of) for of in places.values()])
    nodes = pressure_nodes(seat_of, heard, hand_over_hz=100.0)
    assert [node.seat for node in nodes] == ["middle"]
    assert nodes[0].at_hz == pytest.approx(mode_hz, rel=0.15)
    assert nodes[0].share < 0.2
    # Levels made alike at both sides say nothing of it: signs do.
    alike = heard / np.abs(heard)
    assert [node.seat for node in pressure_nodes(seat_of, alike, hand_over_hz=100.0)] == ["middle"]


def test_words_say_what_limits_filters_and_what_to_do():
    found = found_bass()
    hold = {"max_loss_db": 4.0, "spots_at": {"Mixer": 3, "Bench": 2}}
    few = limit_words(found.filters, FIGURES, **hold)
    assert few[-1].startswith("Fewer than 3 spots at Bench: take one more there")
    assert limit_words(found.filters, replace(FIGURES, output_db=-6.5), **hold)[0] == (
        "No filters keep -4 dB of output within their limits; these have -6.5 dB."
    )
    full = replace(found.filters.filters[1], data=np.ones(150, dtype="<f4").tobytes())
    limited = limit_words(replace(found.filters, filters=(full,)), FIGURES, **{**hold, "spots_at": {"Mixer": 3}})
    assert limited == ["At their highest gain somewhere: Sub1. Driving subs harder leaves more room."]
    assert doubt_words(None, (), {})[0].startswith("No seat has two spots")
    budget = ErrorBudget(as_found_db=0.4, louder_db={"L": 0.5, "Sub1": 0.9}, warmer_db=0.6)
    assert budget_words(budget) == (
        "With Sub1 1 dB louder the variation is 0.90 dB, with air 3 °C warmer 0.60 dB, instead of 0.40 dB. "
        "Match levels again before you rely on it."
    )


@pytest.mark.parametrize(("behind_m", "named"), [(3.9, True), (2.4, False)])
def test_two_seats_either_side_of_a_node_are_told_from_two_on_one_side(behind_m, named):
    """The first mode along a box is silent in its middle, at 2.8 m (Kuttruff, eq. (3.20))."""
    length_m, spots = 5.6, [("a", (2.0, 1.7, 1.2)), ("a", (2.2, 1.8, 1.2)), ("b", (2.0, behind_m, 1.2))]
    heard = modal_transfer(
        np.array([(0.2, 0.2, 0.2), (4.0, 0.3, 0.2), (0.9, 0.6, 1.1)]),
        np.array([place for _, place in spots]),
        size_m=(4.2, length_m, 2.6),
        frequency_hz=np.maximum(FREQUENCY_HZ, 1.0),
        reverberation_s=0.8,
        speed_m_s=343.0,
    )
    takes = BassTakes.of_spectra(
        ("Sub1", "Sub2", "L"), heard, subs=("Sub1", "Sub2"), seat_of=[seat for seat, _ in spots]
    )
    found = [(node.seat, node.other, round(node.at_hz)) for node in nodes_between(takes, hand_over_hz=60.0)]
    first = 343.0 / 2 / length_m
    assert bool(found) is named
    assert all((seat, other) == ("a", "b") and abs(np.log2(at_hz / first)) < 1 / 3 for seat, other, at_hz in found)
    # One or two loudspeakers can't tell a node from sound on its way, which changes sign over half a wavelength.
    assert nodes_between(takes.of_loudspeakers([True, True, False]), hand_over_hz=120.0) == []
