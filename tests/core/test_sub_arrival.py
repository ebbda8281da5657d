"""Arrival and polarity of subs, on systems that are known."""

import numpy as np
import pytest
from scipy import signal

from dolce.core.response import ImpulseResponse, sub_arrival
from dolce.core.rig.line_check import hum_above_noise_db

RATE = 48_000


def sub(delay_s, *, sign=1, low_hz=24.0, high_hz=120.0):
    """A closed-box sub with a Linkwitz-Riley low-pass, delayed by whole samples."""
    samples = np.zeros(RATE)
    samples[round((0.05 + delay_s) * RATE)] = sign
    half = signal.butter(2, high_hz, "low", fs=RATE, output="sos")
    low = signal.butter(2, low_hz, "high", fs=RATE, output="sos")
    response = signal.sosfilt(low, signal.sosfilt(half, signal.sosfilt(half, samples)))
    return ImpulseResponse(sample=response, sample_rate_hz=RATE, start_s=-0.05)


@pytest.mark.parametrize("delay_s", [0.0, 0.004, 0.0125])
def test_differences_of_arrival_are_those_of_the_delays(delay_s):
    # The filter's own delay is common to all: two equal subs differ by their delays, to a hundredth of a millisecond.
    assert sub_arrival(sub(delay_s)).time_s - sub_arrival(sub(0.0)).time_s == pytest.approx(delay_s, abs=1e-5)


@pytest.mark.parametrize("high_hz", [60.0, 80.0, 120.0, 200.0])
@pytest.mark.parametrize("low_hz", [16.0, 24.0, 35.0])
def test_polarity_of_subs(low_hz, high_hz):
    for sign, word in ((1, "normal"), (-1, "inverted")):
        assert sub_arrival(sub(0.006, sign=sign, low_hz=low_hz, high_hz=high_hz)).polarity == word


def test_arrival_is_little_later_than_the_sound():
    # An eighth of the first swing: within 2 ms for a low-pass at 120 Hz, whatever the room does later.
    assert 0 < sub_arrival(sub(0.0)).time_s < 0.002


def test_silence_has_no_polarity():
    quiet = ImpulseResponse(sample=np.zeros(RATE), sample_rate_hz=RATE, start_s=0.0)
    assert sub_arrival(quiet).polarity == "unsure"


@pytest.mark.parametrize("mains_hz", [50, 60])
def test_hum_is_told_from_noise(mains_hz):
    noise = np.random.default_rng(5).standard_normal(RATE // 2) * 1e-4
    time_s = np.arange(noise.size) / RATE
    hum = 1e-3 * np.sin(2 * np.pi * mains_hz * time_s)
    assert hum_above_noise_db(noise, sample_rate_hz=RATE) < 6
    assert hum_above_noise_db(np.zeros(RATE // 2), sample_rate_hz=RATE) == 0  # digital silence
    assert hum_above_noise_db(noise + hum, sample_rate_hz=RATE) > 20
