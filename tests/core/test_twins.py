"""Two sounds that should be alike, by 1/3 octave, against sounds whose difference is known."""

import numpy as np
import pytest
import scipy

from dolce.core.alignment import TWIN_HZ, together, twins
from dolce.core.dsp import delayed
from dolce.core.response import ImpulseResponse
from dolce.errors import InvalidValue

RATE, ARRIVAL_S = 48_000, 0.012


def sound(later_s=0.0, gain_db=0.0, filtered=None, seed=2):
    """A click with a short diffuse tail of its own."""
    sample = np.zeros(RATE // 4)
    first = round(ARRIVAL_S * RATE)
    sample[first] = 1.0
    tail = np.random.default_rng(seed).normal(0, 0.02, 3000) * np.exp(-np.arange(3000) / 600)
    sample[first + 200 : first + 3200] += tail
    if filtered is not None:
        sample = scipy.signal.sosfilt(filtered, sample)
    sample = 10 ** (gain_db / 20) * delayed(sample, later_s * RATE)
    return ImpulseResponse(sample=sample, sample_rate_hz=RATE, start_s=0.0)


def test_alike_sounds_differ_by_nothing_but_what_they_differ_by_on_the_whole():
    found = twins([(sound(0.0007, -3.0), sound())] * 3, arrival_s=[ARRIVAL_S] * 3)
    assert found.whole_db == pytest.approx(-3.0, abs=0.05)
    assert found.whole_later_s == pytest.approx(0.0007, abs=5e-6)
    np.testing.assert_allclose(found.level_db, 0, atol=0.05)
    told = TWIN_HZ >= 250
    np.testing.assert_allclose(found.later_s[told], 0, atol=3e-5)
    assert np.isnan(found.later_s[~told]).all()


def test_a_band_that_is_lower_or_later_is_told_where_it_is():
    shelf = scipy.signal.butter(1, 3000, "lowpass", fs=RATE, output="sos")
    found = twins([(sound(filtered=shelf), sound())], arrival_s=[ARRIVAL_S])
    # A first-order low-pass by its definition, against its own median.
    _, answer = scipy.signal.sosfreqz(shelf, TWIN_HZ, fs=RATE)
    expected = 20 * np.log10(np.abs(answer))
    np.testing.assert_allclose(found.level_db, expected - np.median(expected), atol=0.4)
    all_pass = np.array([[0.9, 0, 0, 1, 0, 0]])
    assert np.abs(twins([(sound(filtered=all_pass), sound())], arrival_s=[ARRIVAL_S]).level_db).max() < 0.01
    # The part below 1 kHz 0.8 ms late; split without any phase, so that both parts add up to the whole.
    whole = sound()
    below = scipy.signal.sosfiltfilt(scipy.signal.butter(4, 1000, "lowpass", fs=RATE, output="sos"), whole.sample)
    late = together(
        [
            ImpulseResponse(sample=whole.sample - below, sample_rate_hz=RATE, start_s=0.0),
            ImpulseResponse(sample=delayed(below, 0.0008 * RATE), sample_rate_hz=RATE, start_s=0.0),
        ]
    )
    found = twins([(late, whole)], arrival_s=[ARRIVAL_S])
    apart = found.later_s + found.whole_later_s
    assert apart[(TWIN_HZ > 300) & (TWIN_HZ < 600)] == pytest.approx(0.0008, abs=2e-4)
    assert apart[TWIN_HZ > 3000] == pytest.approx(0, abs=1e-4)


def test_left_and_right_together_are_the_phantom_centre():
    left, right = sound(gain_db=-6.0206), sound(gain_db=-6.0206)
    found = twins([(sound(), together([left, right]))], arrival_s=[ARRIVAL_S])
    assert found.whole_db == pytest.approx(0, abs=0.01)  # half and half of the same sound is the sound
    apart = ImpulseResponse(sample=np.ones(100), sample_rate_hz=44_100, start_s=0.0)
    with pytest.raises(InvalidValue, match="other rates"):
        together([left, apart])
