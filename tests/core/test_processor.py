"""What a processor does with sound, and what it can hold."""

from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.correction import Limits
from dolce.core.dsp import all_pass_response
from dolce.core.filters import BandFilter, chain_level_db, convolution_filter
from dolce.core.processor import (
    EFFECTS,
    REHEARSAL_PROCESSOR,
    AllPass,
    BassManagement,
    ChannelSettings,
    Convolution,
    Crossover,
    Effects,
    Preset,
    ProcessorInUse,
    ProcessorLimits,
    ProcessorState,
    Route,
    checked_chain,
    differences,
    processed,
)
from dolce.core.processor.chain import MOST_IN_A_ROW
from dolce.core.tuning import level_of, response_of
from dolce.errors import InvalidValue

RATE = 48_000
BAND = BandFilter(frequency_hz=100, gain_db=-6.3, q=3)


def impulse(samples=RATE):
    click = np.zeros(samples)
    click[0] = 1
    return click


def level(samples, at):
    spectrum = np.exp(-2j * np.pi * np.outer(at, np.arange(samples.size)) / RATE) @ samples
    return 20 * np.log10(np.abs(spectrum))


def test_linkwitz_riley_halves_add_up_flat_and_are_6_db_down_where_they_meet():
    # S. H. Linkwitz, JAES 24 (1976): both sides in phase, -6.02 dB at the crossover.
    crossover = Crossover(frequency_hz=80)
    high, low = (
        processed(impulse(), ChannelSettings(**{side: crossover}), sample_rate_hz=RATE)
        for side in ("high_pass", "low_pass")
    )
    at = np.array([20.0, 80.0, 300.0])
    assert_allclose(level(high + low, at), 0, atol=0.01)
    assert level(low, np.array([80.0]))[0] == pytest.approx(-6.02, abs=0.02)
    assert level(high, np.array([40.0]))[0] == pytest.approx(-24.6, abs=0.2)  # 24 dB per octave


def test_convolution_does_what_the_bands_do():
    taps = convolution_filter((BAND,), sample_rate_hz=RATE, duration_s=0.34)
    settings = ChannelSettings(convolution=Convolution.of(taps, sample_rate_hz=RATE))
    at = np.array([50.0, 100.0, 200.0, 1000.0])
    bands = chain_level_db([BAND], at_hz=at, sample_rate_hz=RATE)
    assert_allclose(level(processed(impulse(), settings, sample_rate_hz=RATE), at), bands, atol=0.1)
    assert_allclose(settings.correction_level_db(at, sample_rate_hz=RATE), bands, atol=0.1)
    other = processed(impulse(), settings, sample_rate_hz=44_100)  # fits its own rate only
    assert_allclose(other, impulse())


@pytest.mark.parametrize(
    ("change", "parts"),
    [
        ({"trim_db": -3.004}, []),
        ({"trim_db": -3.006}, ["trim"]),
        ({"delay_s": 0.001 + 4e-7}, []),
        ({"delay_s": 0.001 + 6e-7}, ["delay"]),
        ({"polarity": "inverted"}, ["polarity"]),
        ({"high_pass": Crossover(frequency_hz=90)}, ["crossover"]),
        ({"filters": ()}, ["bands"]),
        ({"filters": (replace(BAND, gain_db=-6.2), BAND)}, ["bands"]),
    ],
)
def test_what_a_processor_holds_differs_from_what_it_was_told_by_more_than_any_device_is_set(change, parts):
    held = ChannelSettings(trim_db=-3, delay_s=0.001, high_pass=Crossover(frequency_hz=80), filters=(BAND,))
    assert [difference.part for difference in differences(held, replace(held, **change))] == parts


def test_a_chain_holds_one_processor_that_is_loaded_and_no_more_in_a_row_than_are_kept_apart():
    others = tuple(ProcessorInUse(name=f"Other {k}", by_itself=True) for k in range(MOST_IN_A_ROW))
    whole = (REHEARSAL_PROCESSOR, *others[:-1])
    assert checked_chain(whole) == whole
    with pytest.raises(InvalidValue, match="in a row"):
        checked_chain((REHEARSAL_PROCESSOR, *others))
    with pytest.raises(InvalidValue, match="one processor of the chain is loaded"):
        checked_chain(others[:2])


def test_the_level_of_settings_is_that_of_their_response_whatever_they_hold():
    at = np.array([30.0, 80.0, 400.0])
    for more in ({}, {"high_pass": Crossover(frequency_hz=80)}, {"low_pass": Crossover(frequency_hz=80)}):
        settings = ChannelSettings(trim_db=-3, delay_s=0.001, polarity="inverted", filters=(BAND,), **more)
        whole = 20 * np.log10(np.abs(response_of(settings, at_hz=at, sample_rate_hz=RATE)))
        assert_allclose(level_of(settings, at_hz=at, sample_rate_hz=RATE), whole, atol=1e-9)


def test_mute_solo_and_dim_show_and_count_as_another_state():
    plain = ProcessorState()
    muted, solo, dimmed = ProcessorState(muted=("L",)), ProcessorState(solo="R"), ProcessorState(dimmed=True)
    assert [s.is_open("L") for s in (plain, muted, solo)] == [True, False, False]
    assert solo.is_open("R")
    assert dimmed.description == "bypassed, dimmed"
    for state in (muted, solo, dimmed, ProcessorState(slate=("delay",))):
        assert not state.sounds_like(plain, ["L", "R"])
    assert plain.is_neutral
    assert not dimmed.is_neutral


def test_bass_management_sends_the_bass_of_a_main_channel_to_all_subs():
    bass = BassManagement(crossover=Crossover(frequency_hz=80), subs=("Sub1", "Sub2"))
    state = ProcessorState(active="A", presets={"A": Preset(name="x", bass=bass)})
    own, *subs = state.routes("L")
    assert (own.output, own.side, own.crossover) == ("L", "high", bass.crossover)
    assert [(sub.output, sub.side, round(sub.gain_db, 2)) for sub in subs] == [
        ("Sub1", "low", -6.02),
        ("Sub2", "low", -6.02),
    ]
    assert state.routes("Sub1") == [Route(output="Sub1")]
    assert ProcessorState().routes("L") == [Route(output="L")]
    assert not state.is_neutral


def test_channels_may_have_crossovers_of_their_own_and_outputs_besides():
    bass = BassManagement(
        crossover=Crossover(frequency_hz=80),
        subs=("Sub1", "Sub2"),
        sub_gain_db=0.0,
        low_pass=Crossover(frequency_hz=70),
        by_channel={"L": None, "Ls": Crossover(frequency_hz=120, order=8)},
        effects=Effects(),
        sends={"C": {"L": -3.0}},
    )
    assert bass.routes("L") == [Route(output="L")]
    assert [(w.output, w.crossover.frequency_hz, w.gain_db) for w in bass.routes("Ls")] == [
        ("Ls", 120, 0),
        ("Sub1", 70, 0),
        ("Sub2", 70, 0),
    ]
    assert [(w.output, w.gain_db) for w in bass.routes("C")] == [("C", 0), ("L", -3), ("Sub1", 0), ("Sub2", 0)]
    # The effects channel has no speaker: on every sub, 10 dB up (common practice), no higher than 120 Hz.
    assert [(w.output, w.crossover.frequency_hz, w.gain_db) for w in bass.routes(EFFECTS)] == [
        ("Sub1", 120, 10),
        ("Sub2", 120, 10),
    ]
    shared = BassManagement(crossover=Crossover(frequency_hz=80), subs=("Sub1", "Sub2"), effects=Effects())
    assert [round(route.gain_db, 2) for route in shared.routes(EFFECTS)] == [3.98, 3.98]  # shared as bass is
    # SMPTE RP 200 (from memory): a plain meter reads the effects channel about 4 dB over a main channel.
    assert Effects().on_a_meter_db == pytest.approx(4.1, abs=0.1)
    adds_up = bass.adds_up_db(("L", "Ls", "C", "Sub1", "Sub2"))
    assert adds_up["Sub1"] == pytest.approx(20 * np.log10(1 + 1 + 1 + 10**0.5))  # Ls, C, itself, effects
    assert adds_up["L"] == pytest.approx(20 * np.log10(1 + 10 ** (-3 / 20)))
    assert BassManagement(crossover=Crossover(frequency_hz=80), subs=()).routes("L") == [Route(output="L")]


def test_an_all_pass_turns_the_phase_and_leaves_the_level():
    settings = ChannelSettings(all_pass=(AllPass(frequency_hz=60, q=0.8), AllPass(frequency_hz=90, q=2)))
    at = np.array([20.0, 45.0, 60.0, 90.0, 200.0])
    heard = np.fft.rfft(processed(impulse(), settings, sample_rate_hz=RATE))[at.astype(int)]
    assert_allclose(np.abs(heard), 1, atol=1e-9)
    # The analogue sections of the search, whose phase the bilinear transform keeps far below half the rate.
    analogue = all_pass_response(60, 0.8, at) * all_pass_response(90, 2, at)
    assert_allclose(np.angle(heard / analogue), 0, atol=2e-3)
    assert_allclose(response_of(settings, at_hz=at, sample_rate_hz=RATE), heard, atol=1e-6)
    assert [first.kind for first in DEVICE.broken_by_channel(settings)] == ["all-passes"]


DEVICE = ProcessorLimits(
    name="box",
    bands=2,
    lowest_gain_db=-6,
    highest_gain_db=3,
    gain_step_db=0.5,
    lowest_q=0.5,
    highest_q=6,
    trim_step_db=0.5,
    most_delay_s=0.01,
    taps=100,
)


def test_limits_name_everything_that_does_not_fit():
    settings = ChannelSettings(
        filters=(BAND, BandFilter(frequency_hz=50, gain_db=1.2, q=9), BandFilter(frequency_hz=60, gain_db=1, q=1)),
        trim_db=-1.3,
        delay_s=0.02,
        convolution=Convolution.of(np.zeros(101), sample_rate_hz=RATE),
    )
    found = DEVICE.broken_by(Preset(name="x", channels={"L": settings}))
    assert {first.channel for first in found} == {"L"}
    assert [(first.kind, first.band, first.value, first.low, first.high) for first in found] == [
        ("bands", 0, 3, 0, 2),
        ("gain", 1, -6.3, -6, 3),
        ("gain step", 2, 1.2, 0.5, 0.5),
        ("q", 2, 9, 0.5, 6),
        ("trim step", 0, -1.3, 0.5, 0.5),
        ("delay", 0, 0.02, 0, 0.01),
        ("taps", 0, 101, 0, 100),
    ]
    assert DEVICE.broken_by_channel(ChannelSettings(trim_db=-1.5, delay_s=0.01)) == ()


def test_delays_on_the_steps_of_a_device_are_held_and_others_are_named():
    device = replace(DEVICE, delay_step_s=1e-5)
    for steps in range(200):
        assert device.broken_by_channel(ChannelSettings(delay_s=steps * 1e-5)) == ()
    (found,) = device.broken_by_channel(ChannelSettings(delay_s=1.234e-3 + 5e-6))
    assert (found.kind, found.low) == ("delay step", 1e-5)


def test_a_band_is_brought_to_what_the_device_can_be_set_to_and_never_grows():
    set_to = DEVICE.settable(BandFilter(frequency_hz=50, gain_db=2.9, q=9))
    assert (set_to.gain_db, set_to.q) == (2.5, 6)
    assert DEVICE.settable(BAND).gain_db == -6
    assert DEVICE.broken_by_channel(ChannelSettings(filters=(set_to,))) == ()


def test_limits_of_a_correction_are_drawn_in():
    narrowed = DEVICE.narrowed(Limits(bands=10, max_boost_db=6, max_cut_db=12, min_q=0.3, max_q=10))
    assert (narrowed.bands, narrowed.max_boost_db, narrowed.max_cut_db, narrowed.min_q, narrowed.max_q) == (
        2,
        3,
        6,
        0.5,
        6,
    )
    assert narrowed.highest_gain_db == 3  # of a single band, whatever all together may do


@pytest.mark.parametrize(
    "wrong", [{"name": " "}, {"bands": 40}, {"lowest_q": 5, "highest_q": 2}, {"gain_step_db": 0}, {"presets": 0}]
)
def test_limits_that_cannot_be_are_refused(wrong):
    with pytest.raises(InvalidValue):
        ProcessorLimits(**{"name": "x", **wrong})


def test_crossovers_that_cannot_be_are_refused():
    with pytest.raises(InvalidValue):
        Crossover(frequency_hz=80, order=3)
    reference = signal.butter(2, 80, "low", fs=RATE, output="sos")
    single = Crossover(frequency_hz=80, kind="butterworth", order=2)
    assert_allclose(single.sections("low", sample_rate_hz=RATE), reference)
    twice = Crossover(frequency_hz=80, order=4).sections("low", sample_rate_hz=RATE)
    assert_allclose(twice, np.tile(reference, (2, 1)))
