"""The filters' own curve, against SciPy's responses and group delays."""

import numpy as np
import pytest
import scipy

from dolce.core.filters import BandFilter, chain_sections, linear_phase
from dolce.core.processor import ChannelSettings, Convolution, Crossover
from dolce.core.tuning.filter_curves import filter_curves

RATE = 48_000
AT_HZ = np.geomspace(25, 15_000, 60)
BANDS = (
    BandFilter(frequency_hz=50, gain_db=-9, q=6),
    BandFilter(frequency_hz=300, gain_db=3, q=1.2),
    BandFilter(frequency_hz=4000, gain_db=-2, q=0.8),
)


def test_level_phase_and_group_delay_of_bands_are_those_of_scipy():
    found = filter_curves(ChannelSettings(filters=BANDS), at_hz=AT_HZ, sample_rate_hz=RATE)
    assert [band for band, _ in found.each] == list(BANDS)
    for band, curve in found.each:
        b, a = scipy.signal.sos2tf(np.array(chain_sections((band,), sample_rate_hz=RATE)))
        _, response = scipy.signal.freqz(b, a, worN=AT_HZ, fs=RATE)
        _, delay = scipy.signal.group_delay((b, a), w=AT_HZ, fs=RATE)
        np.testing.assert_allclose(curve.level_db, 20 * np.log10(np.abs(response)), atol=1e-6)
        np.testing.assert_allclose(curve.phase_deg, np.degrees(np.angle(response)), atol=1e-6)
        np.testing.assert_allclose(curve.delay_s, delay / RATE, rtol=2e-3, atol=2e-7)
    for name in ("level_db", "delay_s"):  # a chain's levels and delays add up
        total = sum(getattr(curve, name) for _, curve in found.each)
        np.testing.assert_allclose(getattr(found.together, name), total, rtol=1e-6, atol=1e-7)


def test_a_linear_phase_convolution_has_no_delay_beyond_its_main_arrival():
    level = -6 * np.exp(-(np.log2(AT_HZ / 200) ** 2))
    impulse = linear_phase(AT_HZ, level, sample_rate_hz=RATE, samples=8192)
    settings = ChannelSettings(convolution=Convolution.of(impulse, sample_rate_hz=RATE))
    found = filter_curves(settings, at_hz=AT_HZ, sample_rate_hz=RATE)
    assert found.each == ()
    assert found.later_s == pytest.approx(4096 / RATE, abs=1 / RATE)
    # Oppenheim and Schafer 2010, 5.7: symmetric taps have constant group delay; float32 taps leave microseconds.
    np.testing.assert_allclose(found.together.delay_s, 0, atol=2e-5)
    np.testing.assert_allclose(found.together.phase_deg, 0, atol=0.05)
    np.testing.assert_allclose(found.together.level_db, level, atol=0.15)


def test_trim_delay_crossover_and_taps_of_another_rate_are_no_filters():
    impulse = np.zeros(64)
    impulse[3] = 0.5
    settings = ChannelSettings(
        trim_db=-6,
        delay_s=0.01,
        polarity="inverted",
        filters=BANDS[:1],
        high_pass=Crossover(frequency_hz=80, order=4),
        convolution=Convolution.of(impulse, sample_rate_hz=44_100),
    )
    alone = filter_curves(ChannelSettings(filters=BANDS[:1]), at_hz=AT_HZ, sample_rate_hz=RATE)
    found = filter_curves(settings, at_hz=AT_HZ, sample_rate_hz=RATE)
    np.testing.assert_array_equal(found.together.level_db, alone.together.level_db)
    assert found.later_s == 0


def test_group_delay_that_listeners_notice_is_told_where_it_is_published():
    # Blauert and Laws 1978: 3.2 ms at 500 Hz, 2 ms at 1 kHz, 1 ms at 2 kHz.
    narrow = BandFilter(frequency_hz=1000, gain_db=-12, q=16)
    fine = np.sort(np.append(AT_HZ, 1000.0))
    at_peak = filter_curves(ChannelSettings(filters=(narrow,)), at_hz=fine, sample_rate_hz=RATE)
    assert at_peak.noticed_hz(fine) == (1000.0,)
    assert filter_curves(ChannelSettings(filters=BANDS), at_hz=AT_HZ, sample_rate_hz=RATE).noticed_hz(AT_HZ) == ()
