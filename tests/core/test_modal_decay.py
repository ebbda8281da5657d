"""Decay of modes, and responses predicted through outputs over time, against closed forms."""

from dataclasses import replace

import numpy as np
import pytest

from dolce.core.filters import BandFilter, linear_phase
from dolce.core.processor import ChannelSettings, Convolution, processed
from dolce.core.reading import longest_decay_s, mode_decays
from dolce.core.response import ImpulseResponse
from dolce.core.tuning import Outputs
from dolce.core.tuning.time_prediction import predicted_response
from dolce.errors import InvalidValue

RATE, ARRIVAL_S = 48_000, 0.01


def ringing(*modes, noise_db=-90.0):
    """Damped sines from the arrival on, each (Hz, T60 in s, amplitude), over noise."""
    time = np.arange(round(1.4 * RATE)) / RATE - ARRIVAL_S
    sample = np.random.default_rng(5).normal(0, 10 ** (noise_db / 20), time.size)
    for hz, seconds, amplitude in modes:
        envelope = np.where(time >= 0, np.exp(-3 * np.log(10) / seconds * np.maximum(time, 0)), 0)
        sample += amplitude * envelope * np.sin(2 * np.pi * hz * np.maximum(time, 0))
    return ImpulseResponse(sample=sample, sample_rate_hz=RATE, start_s=0.0)


def test_a_damped_sine_rings_as_long_as_it_does_and_is_as_loud_as_it_is():
    found = mode_decays(ringing((47.0, 0.8, 0.1), (131.0, 0.4, 0.1)), [47.0, 131.0], arrival_s=ARRIVAL_S)
    assert [one.seconds for one in found] == pytest.approx([0.8, 0.4], rel=0.06)
    louder = mode_decays(ringing((47.0, 0.8, 0.2)), [47.0], arrival_s=ARRIVAL_S)[0]
    assert louder.level_db - found[0].level_db == pytest.approx(20 * np.log10(2), abs=0.2)


def test_what_the_bands_own_filter_can_not_tell_is_bounded():
    # Jacobsen and Rindel 1987: bandwidth times decay time of 4; a third of an octave at 40 Hz is 9.26 Hz wide.
    (one,) = mode_decays(ringing((40.0, 0.2, 0.1)), [40.0], arrival_s=ARRIVAL_S)
    assert one.seconds is None
    assert one.under_s == pytest.approx(4 / 9.26, rel=0.01)
    assert not one.heard


def test_published_thresholds_are_met_and_lie_between_each_other_elsewhere():
    # Fazenda, Stephenson and Goldberg 2015, from their abstract.
    assert [longest_decay_s(hz) for hz in (32, 63, 250)] == pytest.approx([0.9, 0.51, 0.12])
    assert 0.12 < longest_decay_s(125) < 0.51
    (long,) = mode_decays(ringing((63.0, 0.7, 0.1)), [63.0], arrival_s=ARRIVAL_S)
    (short,) = mode_decays(ringing((63.0, 0.45, 0.1)), [63.0], arrival_s=ARRIVAL_S)
    assert long.heard
    assert not short.heard
    assert long.lengthened(short)
    assert not short.lengthened(long)
    assert not replace(short, seconds=short.seconds + 0.01).lengthened(short)  # as much as takes differ


def test_a_cut_that_fits_a_mode_shortens_it_and_the_prediction_says_by_how_much():
    # An all-pole resonance times a peaking filter of the opposite shape: Q of a mode is pi f T60 / ln(1000).
    hz, seconds = 60.0, 0.9
    taken = ringing((hz, seconds, 0.1))
    q = np.pi * hz * seconds / np.log(1000)
    band = BandFilter(frequency_hz=hz, gain_db=-9.0, q=round(q / 10 ** (9 / 40), 2))
    outputs = Outputs(settings={"L": ChannelSettings(filters=(band,), delay_s=0.004)})
    found = predicted_response(outputs, "L", {"L": taken}, arrival_s=ARRIVAL_S)
    assert found.arrival_s == pytest.approx(ARRIVAL_S + 0.004)
    (before,) = mode_decays(taken, [hz], arrival_s=ARRIVAL_S)
    (after,) = mode_decays(found.response, [hz], arrival_s=found.arrival_s)
    assert after.level_db < before.level_db - 5
    assert after.seconds is None or after.seconds < 0.75 * before.seconds


def test_one_output_is_what_the_processor_makes_of_it_and_what_lacks_is_said():
    taken = ringing((80.0, 0.5, 0.1))
    settings = ChannelSettings(trim_db=-3, delay_s=0.002, filters=(BandFilter(frequency_hz=80, gain_db=-6, q=3),))
    found = predicted_response(Outputs(settings={"L": settings}), "L", {"L": taken}, arrival_s=ARRIVAL_S)
    expected = processed(taken.sample, settings, sample_rate_hz=RATE)
    np.testing.assert_allclose(found.response.sample[: expected.size], expected, atol=1e-9)
    with pytest.raises(InvalidValue, match="no take with a response of L"):
        predicted_response(Outputs(settings={}), "L", {}, arrival_s=ARRIVAL_S)


def test_linear_phase_sounds_before_the_arrival_and_minimum_phase_does_not():
    click = np.zeros(RATE)
    click[round(ARRIVAL_S * RATE)] = 1.0
    taken = ImpulseResponse(sample=click, sample_rate_hz=RATE, start_s=0.0)
    at = np.geomspace(20, 20_000, 200)
    impulse = linear_phase(at, -9 * np.exp(-((np.log2(at / 50) / 0.15) ** 2)), sample_rate_hz=RATE, samples=48_000)
    taps = Convolution.of(impulse, sample_rate_hz=RATE)
    linear = predicted_response(
        Outputs(settings={"L": ChannelSettings(convolution=taps)}), "L", {"L": taken}, arrival_s=ARRIVAL_S
    )
    plain = predicted_response(Outputs(settings={}), "L", {"L": taken}, arrival_s=ARRIVAL_S)
    assert linear.arrival_s == pytest.approx(ARRIVAL_S + 0.5, abs=2 / RATE)
    # All of the filter's taps before its middle, by their definition.
    middle = int(np.argmax(np.abs(impulse)))
    early = np.sum(impulse[: middle - round(0.001 * RATE)] ** 2) / np.sum(impulse**2)
    assert linear.ahead_db() == pytest.approx(10 * np.log10(early), abs=0.3)
    assert linear.ahead_db() > -60
    assert linear.ahead_db(0.02) < linear.ahead_db()
    assert plain.ahead_db() < -200
