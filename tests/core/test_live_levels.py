"""Live meter and spectrum, and the sources that they hear, against AES17, IEC 61672-1, IEC 61260-1 and other code."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.dsp import dbfs_rms, peak_dbfs
from dolce.core.levels import LiveMeter, LiveSpectrum, apart, band_levels_db, pink_in_bands_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.signals import PERIOD_S, Source, SourcePlayer, stated_levels
from dolce.errors import InvalidValue

RATE = 48_000


def blocks(samples, size=4800):
    return [samples[k : k + size] for k in range(0, samples.size, size)]


def test_meter_reads_1_khz_alike_through_all_weightings_and_forgets_on_reset():
    tone = 0.1 * np.sin(2 * np.pi * 1000 * np.arange(3 * RATE) / RATE)
    meter = LiveMeter(sample_rate_hz=RATE, offset_db=114.0)
    for block in blocks(tone):
        reading = meter.hear(block)
    # AES17: a tenth of full scale is -20 dBFS; IEC 61672-1, table 3: 0 dB at 1 kHz for A, C and Z.
    assert [reading.by_weighting[w].slow_db for w in "ACZ"] == pytest.approx([94.0] * 3, abs=0.3)
    assert [reading.recent_db[w] for w in "ACZ"] == pytest.approx([94.0] * 3, abs=0.05)
    meter.reset()
    assert meter.reading.by_weighting["A"].highest_fast_db < -150


def test_recent_level_means_the_chosen_time_and_no_more():
    loud, soft = np.full(RATE, 0.5), np.full(4 * RATE, 0.05)
    meter = LiveMeter(sample_rate_hz=RATE, meaning_time_s=2.0)
    for block in blocks(np.concatenate([loud, soft])):
        reading = meter.hear(block)
    # A constant of 0.05 has the mean square of a sine of 0.05 sqrt 2.
    assert reading.recent_db["Z"] == pytest.approx(20 * np.log10(0.05 * np.sqrt(2)), abs=0.01)
    assert reading.recent_s == pytest.approx(2.0, abs=0.11)
    assert reading.by_weighting["Z"].equivalent_db > reading.recent_db["Z"] + 10


def test_clipping_shows_in_the_block_where_it_is():
    meter = LiveMeter(sample_rate_hz=RATE)
    assert meter.hear(np.array([0.2, 1.0, 0.3])).clipped
    assert not meter.hear(np.full(100, 0.3)).clipped


@pytest.mark.parametrize("per_octave", [3, 6, 12, 24])
def test_pink_noise_is_flat_in_bands_and_adds_up_to_its_level(per_octave):
    source = Source(kind="pink", level_dbfs=-20)
    spectrum = LiveSpectrum(sample_rate_hz=RATE)
    spectrum.hear(source.block(0, round(3 * PERIOD_S * RATE), sample_rate_hz=RATE))
    frequency, level = spectrum.bands(per_octave=per_octave)
    inside = (frequency > 100) & (frequency < 18_000)
    # Ten octaves less a third of a per cent: a band holds its share of -20 dBFS.
    share = -20 - 10 * np.log10(np.log2(1000) * per_octave)
    assert_allclose(level[inside], share, atol=0.4 if per_octave < 24 else 0.8)
    assert 10 * np.log10(spectrum.power.sum()) == pytest.approx(-20, abs=0.05)


def test_thirds_agree_with_filters_of_the_standard():
    rng = np.random.default_rng(3)
    noise = signal.lfilter([1], [1, -0.9], rng.standard_normal(20 * RATE)) * 0.01
    spectrum = LiveSpectrum(sample_rate_hz=RATE)
    for block in blocks(noise, 48_000):
        spectrum.hear(block)
    frequency, level = spectrum.bands(per_octave=3)
    wanted = (frequency > 90) & (frequency < 9000)
    # Our filters of IEC 61260-1 leak over the edges; on a gentle slope they agree with straight edges.
    filters = band_levels_db(noise, frequency[wanted], per_octave=3, sample_rate_hz=RATE)
    assert_allclose(level[wanted], filters, atol=0.3)


def test_running_average_follows_and_the_mean_since_the_start_remembers():
    quick, mean = LiveSpectrum(sample_rate_hz=RATE, average_s=0.5), LiveSpectrum(sample_rate_hz=RATE)
    sound = np.concatenate(
        [Source(kind="pink", level_dbfs=level).block(0, 6 * RATE, sample_rate_hz=RATE) for level in (-20, -40)]
    )
    for spectrum in (quick, mean):
        spectrum.hear(sound)
    assert 10 * np.log10(quick.power.sum()) == pytest.approx(-40, abs=0.6)
    assert 10 * np.log10(mean.power.sum()) == pytest.approx(-23, abs=0.7)


def test_several_microphones_average_in_power():
    item = 0.1 * np.sin(2 * np.pi * 1000 * np.arange(2 * RATE) / RATE)
    spectrum = LiveSpectrum(sample_rate_hz=RATE)
    spectrum.hear(np.array([item, np.zeros_like(item)]))
    assert 10 * np.log10(spectrum.power.sum()) == pytest.approx(-20 - 3.01, abs=0.02)


def test_bands_are_refused_that_are_not_offered():
    with pytest.raises(InvalidValue, match="1/5 octave"):
        LiveSpectrum(sample_rate_hz=RATE).bands(per_octave=5)


@pytest.mark.parametrize(
    "source",
    [
        Source(kind="pink", level_dbfs=-20),
        Source(kind="tone", level_dbfs=-20),
        Source(kind="band", level_dbfs=-20, band_hz=(30, 80)),
    ],
)
def test_sources_have_the_level_that_they_state(source):
    rms, peak = stated_levels(source, sample_rate_hz=RATE)
    # AES17: -20 dBFS RMS is a digital RMS of 0.1 / sqrt 2 = 0.0707.
    assert 10 ** (rms / 20) / np.sqrt(2) == pytest.approx(0.0707, abs=2e-4)
    assert peak == pytest.approx(source.peak_dbfs(RATE), abs=0.02)


@pytest.mark.parametrize("kind", ["tone", "pink", "sweep"])
def test_blocks_of_a_source_join_without_a_seam(kind):
    source = Source(kind=kind, level_dbfs=-20, frequency_hz=997)
    whole = source.block(0, 6 * RATE, sample_rate_hz=RATE)
    parts = np.concatenate([source.block(k * 4799, 4799, sample_rate_hz=RATE) for k in range(60)])
    assert_allclose(parts, whole[: parts.size], atol=1e-9)


def test_band_noise_keeps_to_its_band():
    noise = Source(kind="band", band_hz=(500, 2000), level_dbfs=-20).block(0, 4 * RATE, sample_rate_hz=RATE)
    f, power = signal.welch(noise, RATE, nperseg=16384)
    assert power[(f > 450) & (f < 2100)].sum() > 0.999 * power.sum()


def test_player_changes_without_a_click_and_changes_output_through_silence():
    player = SourcePlayer(Source(kind="tone", level_dbfs=-20, frequency_hz=100), output=1, sample_rate_hz=RATE)
    played = [player.next_block(4800) for _ in range(2)]
    player.change(Source(kind="tone", level_dbfs=-10, frequency_hz=100), output=1)
    played += [player.next_block(4800) for _ in range(2)]
    player.change(Source(kind="tone", level_dbfs=-10, frequency_hz=100), output=2)
    played += [player.next_block(4800) for _ in range(2)]
    assert [output for output, _ in played] == [1, 1, 1, 1, 1, 2]
    sound = np.concatenate([samples for _, samples in played])
    # The steepest step is that of the louder tone itself.
    assert np.abs(np.diff(sound)).max() < 10 ** (-10 / 20) * 2 * np.pi * 100 / RATE * 1.05
    assert dbfs_rms(played[3][1]) == pytest.approx(-10, abs=0.01)
    assert abs(played[4][1][-1]) < 1e-3
    assert peak_dbfs(played[5][1][:3]) < -60


@pytest.mark.parametrize(
    "wrong",
    [{"kind": "hiss"}, {"level_dbfs": 0.0}, {"frequency_hz": 5.0}, {"kind": "band", "band_hz": (2000.0, 500.0)}],
)
def test_sources_that_cannot_be_are_refused(wrong):
    with pytest.raises(InvalidValue):
        Source(**wrong)


def test_a_response_is_held_against_live_bands_as_pink_noise_would_show_it():
    # Pink noise has equal power in bands of equal ratio: 29.9 thirds of an octave share that from 20 Hz to 20 kHz.
    thirds = np.array([100.0, 1000.0, 10_000.0])
    flat = pink_in_bands_db(np.zeros(ANALYSIS_GRID_HZ.size), at_hz=thirds, per_octave=3, noise_dbfs=-20.0)
    assert_allclose(flat, -20 - 10 * np.log10(3 * np.log2(1000)), atol=1e-9)
    at_hz = np.array([50.0, 200.0, 400.0, 800.0, 16_000.0])
    found = apart(at_hz, np.array([9.0, 1.0, -3.0, 1.0, 9.0]), np.array([20.0, 20_000.0]), np.zeros(2))
    assert (found.most_db, found.most_hz) == (-3.0, 400.0)  # what lies outside of 100 Hz to 10 kHz does not count
    assert found.rms_db == pytest.approx(np.sqrt(11 / 3))
