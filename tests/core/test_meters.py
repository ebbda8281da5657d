"""Weightings, meters, band filters, noise rating and steady test sounds, against their standards."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.dsp import dbfs_rms, energy_sum_db, peak_dbfs
from dolce.core.levels import (
    NOMINAL_HZ,
    SoundLevelMeter,
    band_filter_db,
    band_levels_db,
    exact_mid_hz,
    noise_rating,
    rating_curve_db,
    weighting_db,
    weighting_sections,
)
from dolce.core.signals import pink_noise, tone
from dolce.errors import InvalidValue

RATE = 48_000
# IEC 61672-1:2013, table 3: nominal frequency, A, C, and the class 1 limits above and below.
TABLE = [
    (20, -50.5, -6.2, 2.0, 2.0),
    (25, -44.7, -4.4, 2.0, 1.5),
    (31.5, -39.4, -3.0, 1.5, 1.5),
    (40, -34.6, -2.0, 1.0, 1.0),
    (50, -30.2, -1.3, 1.0, 1.0),
    (63, -26.2, -0.8, 1.0, 1.0),
    (80, -22.5, -0.5, 1.0, 1.0),
    (100, -19.1, -0.3, 1.0, 1.0),
    (125, -16.1, -0.2, 1.0, 1.0),
    (160, -13.4, -0.1, 1.0, 1.0),
    (200, -10.9, 0.0, 1.0, 1.0),
    (250, -8.6, 0.0, 1.0, 1.0),
    (315, -6.6, 0.0, 1.0, 1.0),
    (400, -4.8, 0.0, 1.0, 1.0),
    (500, -3.2, 0.0, 1.0, 1.0),
    (630, -1.9, 0.0, 1.0, 1.0),
    (800, -0.8, 0.0, 1.0, 1.0),
    (1000, 0.0, 0.0, 0.7, 0.7),
    (1250, 0.6, 0.0, 1.0, 1.0),
    (1600, 1.0, -0.1, 1.0, 1.0),
    (2000, 1.2, -0.2, 1.0, 1.0),
    (2500, 1.3, -0.3, 1.0, 1.0),
    (3150, 1.2, -0.5, 1.0, 1.0),
    (4000, 1.0, -0.8, 1.0, 1.0),
    (5000, 0.5, -1.3, 1.5, 1.5),
    (6300, -0.1, -2.0, 1.5, 2.0),
    (8000, -1.1, -3.0, 1.5, 2.5),
    (10000, -2.5, -4.4, 2.0, 3.0),
    (12500, -4.3, -6.2, 2.0, 5.0),
    (16000, -6.6, -8.5, 2.5, 16.0),
    (20000, -9.3, -11.2, 3.0, 100.0),
]


@pytest.mark.parametrize(("weighting", "column"), [("A", 1), ("C", 2)])
def test_weightings_are_those_of_the_table(weighting, column):
    exact = exact_mid_hz([row[0] for row in TABLE])
    # The table gives tenths.
    assert_allclose(weighting_db(exact, weighting), [row[column] for row in TABLE], atol=0.06)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000, 192_000])
@pytest.mark.parametrize(("weighting", "column"), [("A", 1), ("C", 2)])
def test_digital_weightings_keep_the_class_1_limits(weighting, column, rate):
    exact = exact_mid_hz([row[0] for row in TABLE])
    response = 20 * np.log10(
        np.abs(signal.sosfreqz(weighting_sections(weighting, sample_rate_hz=rate), worN=exact, fs=rate)[1])
    )
    for row, found in zip(TABLE, response, strict=True):
        assert -row[4] <= found - row[column] <= row[3], row[0]
    # Better than that below the very top: within 0.4 dB of the formula to 12.5 kHz, 0.75 dB at 16 kHz.
    apart = np.abs(response - weighting_db(exact, weighting))
    assert apart[:-2].max() < 0.4
    assert apart[-2] < 0.75


@pytest.mark.parametrize(
    ("burst_s", "fast_db", "slow_db"),
    [
        (1.0, 0.0, -2.0),
        (0.5, -0.1, -4.1),
        (0.2, -1.0, -7.4),
        (0.1, -2.6, -10.2),
        (0.05, -4.8, -13.1),
        (0.02, -8.3, -17.0),
        (0.01, -11.1, None),
    ],
)
def test_tone_bursts_read_as_the_standard_says(burst_s, fast_db, slow_db):
    # IEC 61672-1:2013, table 4: highest reading of a 4 kHz burst against the steady tone; class 1 allows 0.5 dB.
    meter = SoundLevelMeter("Z", sample_rate_hz=RATE)
    steady = np.sin(2 * np.pi * 4000 * np.arange(round(burst_s * RATE)) / RATE)
    reading = meter.hear(np.concatenate([steady, np.zeros(RATE)]))
    assert reading.highest_fast_db == pytest.approx(fast_db, abs=0.1)
    if slow_db is not None:
        assert reading.highest_slow_db == pytest.approx(slow_db, abs=0.1)


def test_readings_fall_as_the_standard_says_after_a_tone_stops():
    # Exponential decay: 34.7 dB/s fast, 4.34 dB/s slow (IEC 61672-1:2013, 5.8.2: at least 25, and 3.4 to 5.3).
    meter = SoundLevelMeter("C", sample_rate_hz=RATE)
    meter.hear(np.sin(2 * np.pi * 1000 * np.arange(10 * RATE) / RATE))
    first = meter.hear(np.zeros(RATE // 10))
    later = meter.hear(np.zeros(RATE))
    assert first.fast_db - later.fast_db == pytest.approx(34.7, abs=0.1)
    assert first.slow_db - later.slow_db == pytest.approx(4.34, abs=0.02)


def test_a_meter_in_blocks_reads_as_in_one():
    noise = np.random.default_rng(3).standard_normal(RATE) * 0.1
    whole, parts = SoundLevelMeter("A", sample_rate_hz=RATE), SoundLevelMeter("A", sample_rate_hz=RATE)
    expected = whole.hear(noise)
    for block in np.split(noise, [10, 777, 5000, 30_000]):
        found = parts.hear(block)
    for name in ("fast_db", "slow_db", "peak_db", "equivalent_db", "seconds"):
        assert getattr(found, name) == pytest.approx(getattr(expected, name), abs=1e-9)
    assert SoundLevelMeter("A", sample_rate_hz=RATE).reading.seconds == 0


def test_levels_of_sines_as_aes17_counts_them():
    sine = tone(samples=RATE, sample_rate_hz=RATE, frequency_hz=1000, level_dbfs=0)
    reading = SoundLevelMeter("Z", sample_rate_hz=RATE, offset_db=94).hear(sine)
    # 10 ms fades at both ends take 0.06 dB off the mean.
    assert reading.equivalent_db == pytest.approx(94, abs=0.07)
    assert reading.peak_db == pytest.approx(97.01, abs=0.01)  # a sine's crest
    assert peak_dbfs(sine) == pytest.approx(0, abs=0.01)
    with pytest.raises(InvalidValue, match="level"):
        tone(samples=RATE, sample_rate_hz=RATE, frequency_hz=1000, level_dbfs=1)


def test_pink_noise_has_its_level_and_is_flat_per_band():
    noise = pink_noise(samples=RATE * 4, sample_rate_hz=RATE, level_dbfs=-20, rng=np.random.default_rng(1))
    # AES17: -20 dBFS RMS is 0.1 / sqrt(2).
    assert np.sqrt(np.mean(noise**2)) == pytest.approx(0.1 / np.sqrt(2))
    assert dbfs_rms(noise) == pytest.approx(-20)
    mid = exact_mid_hz([f for f in NOMINAL_HZ if 100 <= f <= 10_000])
    levels = band_levels_db(noise, mid, per_octave=3, sample_rate_hz=RATE)
    assert_allclose(levels, levels.mean(), atol=0.5)
    # Each of the lg(1000) 10 = 30 thirds from 20 Hz to 20 kHz has its equal share of the power.
    assert levels.mean() == pytest.approx(-20 - 10 * np.log10(np.log10(1000) * 10), abs=0.15)
    band = pink_noise(
        samples=RATE, sample_rate_hz=RATE, level_dbfs=-20, rng=np.random.default_rng(1), band_hz=(500, 2000)
    )
    outside = band_levels_db(band, exact_mid_hz([125, 8000]), per_octave=3, sample_rate_hz=RATE)
    assert outside.max() < -70
    with pytest.raises(InvalidValue, match="exceed full scale"):
        pink_noise(samples=RATE, sample_rate_hz=RATE, level_dbfs=-3, rng=np.random.default_rng(1))


def test_band_filters_keep_the_class_1_limits():
    # IEC 61260-1:2014, table 1, for octaves: relative frequency as power of G, least and most attenuation in dB.
    limits = [
        (0, -0.4, 0.4),
        (1 / 8, -0.4, 0.5),
        (1 / 4, -0.4, 0.7),
        (3 / 8, -0.4, 1.4),
        (0.4999, -0.4, 5.3),
        (0.5001, 1.2, 99),
        (1, 16.6, 999),
        (2, 40.5, 999),
        (3, 60, 999),
        (4, 70, 999),
    ]
    for per_octave in (1, 3, 12, 24):
        for power, least, most in limits:
            for side in (1, -1):
                # Breakpoints of narrower bands move in, eq. (9) of the standard.
                ratio = 10 ** (0.3 * power)
                narrow = 1 + (10 ** (0.15 / per_octave) - 1) / (10**0.15 - 1) * (ratio - 1)
                attenuation = -band_filter_db(1000 * narrow**side, 1000, per_octave=per_octave)
                assert least <= attenuation <= most, (per_octave, power, side)


def test_octave_of_a_tone_is_its_level():
    sine = tone(samples=4 * RATE, sample_rate_hz=RATE, frequency_hz=1000, level_dbfs=-30)
    levels = band_levels_db(sine, [500, 1000, 2000], per_octave=1, sample_rate_hz=RATE)
    assert levels[1] == pytest.approx(-30, abs=0.1)
    assert max(levels[0], levels[2]) < -45
    with pytest.raises(InvalidValue, match="above half"):
        band_levels_db(sine, [22_000], per_octave=1, sample_rate_hz=RATE)


def test_noise_rating_curves():
    # NR 25 and NR 35 as handbooks print them (from memory), in whole dB.
    assert_allclose(rating_curve_db(25), [72, 55, 44, 35, 29, 25, 22, 20, 18], atol=0.6)
    assert_allclose(rating_curve_db(35), [79, 63, 52, 45, 39, 35, 32, 30, 28], atol=0.6)
    levels = rating_curve_db(20)
    levels[2] += 8.7  # 0.87 dB per NR at 125 Hz
    assert noise_rating(levels) == (pytest.approx(30), 125)
    with pytest.raises(InvalidValue, match="nine octaves"):
        noise_rating([1, 2, 3])


def test_effects_channel_10_db_up_in_band_reads_about_4_db_up_on_c():
    # Common practice; follows from the formulas: pink noise to 120 Hz against the whole band, both C-weighted.
    f = exact_mid_hz([f for f in NOMINAL_HZ if f <= 16_000])
    whole = energy_sum_db(weighting_db(f, "C"))
    effects = energy_sum_db(weighting_db(f[f < 123], "C") + 10)
    assert effects - whole == pytest.approx(4, abs=0.6)
