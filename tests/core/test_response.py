import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import fft, signal

from dolce.core.dsp import band_edges, smoothed_power
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    Deconvolver,
    FrequencyResponse,
    ImpulseResponse,
    MicrophoneCurve,
    advice_of,
    analyse_recording,
    another_spot_db,
    average_over_spots,
    clipped_samples,
    curve_on_grid,
    deconvolution,
    find_arrival,
    level_on_grid,
    part_with,
    resampled,
    spots_for,
    without_drift,
)
from dolce.core.response.outliers import repeats_differ_db
from dolce.core.signals import Sweep
from dolce.errors import InvalidValue

RATE = 48_000
SWEEP = Sweep(duration_s=2.0)
GRID = ANALYSIS_GRID_HZ[(ANALYSIS_GRID_HZ >= 20) & (ANALYSIS_GRID_HZ <= 20_000)]
LENGTHS = {"sample_rate_hz": RATE, "recording_samples": 3 * RATE}


def heard(system, *, delay_s=0.0123456, seconds=3.0, region=0.0, sweep=SWEEP):
    """The sweep through a system given as complex response over Hz, delayed; computed by its spectrum alone."""
    x = sweep.samples()
    samples = round(seconds * RATE)
    size = fft.next_fast_len(2 * samples)
    frequency = fft.rfftfreq(size, 1 / RATE)
    if region:
        # The same closed form on a clock that runs off by `region`.
        slow = Sweep(
            start_hz=sweep.start_hz / (1 + region),
            stop_hz=sweep.stop_hz / (1 + region),
            duration_s=sweep.duration_s * (1 + region),
            level_dbfs=sweep.level_dbfs,
        )
        x = slow.samples()
    spectrum = fft.rfft(x, size) * system(frequency) * np.exp(-2j * np.pi * frequency * delay_s)
    return fft.irfft(spectrum, size)[:samples]


def high_pass(frequency):
    """Second-order Butterworth at 40 Hz, in closed form."""
    s = 1j * np.maximum(frequency, 1e-9) / 40
    return s**2 / (s**2 + np.sqrt(2) * s + 1)


@pytest.fixture(scope="module")
def deconvolver():
    return Deconvolver(SWEEP.samples(), **LENGTHS, band_hz=(SWEEP.start_hz, SWEEP.stop_hz))


@pytest.mark.parametrize("stimulus", [np.zeros(48_000), np.ones(999), np.zeros(0)])
def test_what_was_played_must_sound_and_last(stimulus):
    with pytest.raises(InvalidValue, match="silent or too short"):
        Deconvolver(stimulus, sample_rate_hz=RATE, recording_samples=96_000)


def test_known_system_comes_back_in_level_arrival_and_polarity():
    # The system is a closed form, so every expected value is exact.
    sweep = Sweep(duration_s=5.0)
    recording = heard(lambda f: -0.5 * high_pass(f), seconds=6.0, sweep=sweep)
    deconvolver = Deconvolver(sweep.samples(), sample_rate_hz=RATE, recording_samples=recording.size)
    capture = analyse_recording(recording, deconvolver=deconvolver)
    expected = 20 * np.log10(0.5 * np.abs(high_pass(GRID)))
    # 0.01 dB is the promise; the window of 0.4 s before and 0.9 s behind leaves 0.002 dB.
    assert_allclose(level_on_grid(capture.response, at_hz=GRID, per_octave=None), expected, atol=0.01)
    assert capture.arrival.time_s == pytest.approx(0.0123456, abs=0.4e-6)  # 1/50 of a sample
    assert capture.arrival.polarity == "inverted"
    assert capture.quality.word == "clean"


@pytest.mark.parametrize(("begins_s", "below_db"), [(31.3, 30), (0.4, 30), (56.9, 30), (20.0, -10)])
def test_a_long_recording_is_read_around_its_sweep(begins_s, below_db):
    # 60 s of noise, and somewhere in it a sweep of 2 s with an echo; also 10 dB below the noise.
    rng, stimulus = np.random.default_rng(4), SWEEP.samples()
    recording = rng.normal(0, 10 ** ((-15 - below_db) / 20), 60 * RATE)
    at = round(begins_s * RATE)
    for delay, gain in ((0, 1.0), (300, -0.5)):
        here = slice(at + delay, min(at + delay + stimulus.size, recording.size))
        recording[here] += gain * stimulus[: here.stop - here.start]
    part = part_with(recording, stimulus, sample_rate_hz=RATE)
    assert part.stop - part.start <= stimulus.size + 6 * RATE
    assert part.start <= max(0, at - 0.9 * RATE)
    assert part.stop >= min(recording.size, at + stimulus.size + 3.9 * RATE)
    if below_db > 0:
        deconvolver = Deconvolver(stimulus, sample_rate_hz=RATE, recording_samples=part.stop - part.start)
        found = analyse_recording(recording[part], deconvolver=deconvolver).later(part.start / RATE)
        assert found.arrival.time_s == pytest.approx(begins_s, abs=2e-6)
        assert found.response.time_s[0] == pytest.approx(begins_s - found.arrival.time_s + found.response.start_s)
        whole = Deconvolver(stimulus, sample_rate_hz=RATE, recording_samples=recording.size)
        same = analyse_recording(recording, deconvolver=whole)
        assert_allclose(
            *(level_on_grid(first.response, at_hz=GRID, per_octave=12) for first in (found, same)), atol=0.05
        )


def test_a_recording_is_left_whole_that_is_short_or_holds_no_sweep():
    stimulus, noise = SWEEP.samples(), np.random.default_rng(5).normal(0, 0.1, 30 * RATE)
    assert part_with(noise, stimulus, sample_rate_hz=RATE) == slice(0, noise.size)
    recording = noise[: 7 * RATE].copy()
    recording[RATE : RATE + stimulus.size] += stimulus
    assert part_with(recording, stimulus, sample_rate_hz=RATE) == slice(0, recording.size)


def test_what_comes_around_in_a_division_lies_behind_the_response():
    # A sweep and 1.1 s: that is also divided with as much silence behind it as nothing comes around in.
    recording = heard(high_pass, seconds=3.1)
    recording = recording + np.random.default_rng(6).normal(0, 0.01, recording.size)
    made = [
        analyse_recording(
            recording, deconvolver=Deconvolver(SWEEP.samples(), sample_rate_hz=RATE, recording_samples=size)
        )
        for size in (recording.size, 3 * recording.size)
    ]
    assert_allclose(*(level_on_grid(first.response, at_hz=GRID, per_octave=None) for first in made), atol=0.002)
    assert made[0].arrival.time_s == pytest.approx(made[1].arrival.time_s, abs=1e-8)


def test_a_long_recording_in_single_precision_gives_what_double_gives(monkeypatch):
    recording = heard(high_pass) + np.random.default_rng(7).normal(0, 1e-5, 3 * RATE)
    double = analyse_recording(recording, deconvolver=Deconvolver(SWEEP.samples(), **LENGTHS))
    monkeypatch.setattr(deconvolution, "_SINGLE_ABOVE", recording.size - 1)
    assert deconvolution.precision_for(recording.size) is np.float32
    single = analyse_recording(recording, deconvolver=Deconvolver(SWEEP.samples(), **LENGTHS))
    levels = [level_on_grid(found.response, at_hz=GRID, per_octave=None) for found in (single, double)]
    assert 0 < np.abs(levels[0] - levels[1]).max() < 1e-3  # not the same computation twice
    assert single.response.sample.dtype == np.float64
    assert single.arrival.time_s == pytest.approx(double.arrival.time_s, abs=1e-9)
    assert single.quality.signal_to_noise_db == pytest.approx(double.quality.signal_to_noise_db, abs=0.01)


def test_noise_40_db_below_costs_at_most_a_third_of_a_db(deconvolver):
    recording = heard(high_pass)
    noise = np.random.default_rng(3).standard_normal(recording.size)
    sounding = recording[: round(2.1 * RATE)]
    recording = recording + noise * np.sqrt(np.mean(sounding**2)) * 0.01
    capture = analyse_recording(recording, deconvolver=deconvolver)
    level = level_on_grid(capture.response, at_hz=GRID, per_octave=12)
    assert_allclose(level, 20 * np.log10(np.abs(high_pass(GRID))), atol=0.3)
    # The figure counts the whole recording, of which a third is silence: 40 - 1.6 dB, within half a dB.
    assert capture.quality.signal_to_noise_db == pytest.approx(38.5, abs=0.7)


def test_noise_that_the_window_lets_pass_is_no_signal(deconvolver):
    # At 8 dB the noise inside the window would add 0.3 dB and more to the signal (energies of what was added here).
    recording = heard(high_pass)
    rms = np.sqrt(np.mean(recording[: round(2.1 * RATE)] ** 2))
    off = []
    for seed in (0, 1, 3, 4):
        noise = np.random.default_rng(seed).standard_normal(recording.size) * rms * 10 ** (-8 / 20)
        capture = analyse_recording(recording + noise, deconvolver=deconvolver)
        off.append(capture.quality.signal_to_noise_db - 10 * np.log10(np.sum(recording**2) / np.sum(noise**2)))
    assert np.mean(off) == pytest.approx(0.1, abs=0.2)


def test_gain_and_microphone_are_taken_out():
    sweep = Sweep(duration_s=5.0)
    deconvolver = Deconvolver(sweep.samples(), sample_rate_hz=RATE, recording_samples=6 * RATE)
    curve = MicrophoneCurve(frequency_hz=[10, 1000, 24_000], level_db=[0, 0, 6], phase_deg=[0, 0, 0])
    recording = heard(lambda f: 2 * curve.on(f), seconds=6.0, sweep=sweep)
    capture = analyse_recording(recording, deconvolver=deconvolver, microphone=curve, gain_db=20 * np.log10(2))
    assert_allclose(level_on_grid(capture.response, at_hz=GRID, per_octave=None), 0, atol=0.02)


@pytest.mark.parametrize(
    ("recording", "message"),
    [
        (np.zeros(3 * RATE), "silent"),
        (np.random.default_rng(1).standard_normal(3 * RATE) * 0.1, "does not contain"),
        (np.full(3 * RATE, np.nan), "not numbers"),
    ],
)
def test_recordings_without_the_sweep_are_refused(deconvolver, recording, message):
    with pytest.raises(InvalidValue, match=message):
        analyse_recording(recording, deconvolver=deconvolver)


def test_another_sweep_is_refused(deconvolver):
    other = Sweep(duration_s=1.0, start_hz=200, stop_hz=3000).samples()
    with pytest.raises(InvalidValue, match="does not contain"):
        analyse_recording(np.concatenate([other, other[::-1], np.zeros(RATE)]), deconvolver=deconvolver)


def test_clipped_recording_is_named_and_unusable(deconvolver):
    recording = heard(high_pass, delay_s=0.01)
    recording = np.clip(recording, -0.17, 0.17)  # 3 dB under its peak of 0.25
    quality = analyse_recording(recording, deconvolver=deconvolver).quality
    assert quality.word == "clipped"
    assert not quality.usable
    assert clipped_samples(heard(high_pass)) == 0


@pytest.mark.parametrize("drift_ppm", [60.0, -150.0])
def test_clock_drift_of_a_recorder_is_found_and_taken_out(drift_ppm):
    sweep = Sweep(duration_s=5.0)
    recording = heard(np.ones_like, seconds=6.0, region=drift_ppm * 1e-6, sweep=sweep)
    prepared = Deconvolver(sweep.samples(), sample_rate_hz=RATE, recording_samples=recording.size, band_hz=(10, 22_000))
    octave_s = 5.0 / np.log2(2200)
    mended, found = without_drift(recording, deconvolver=prepared, octave_s=octave_s)
    # Clock twice: the search finds 60 ppm within 3; what is left smears the top by less than 10 us.
    assert found == pytest.approx(drift_ppm, abs=3)
    peak = np.abs(analyse_recording(mended, deconvolver=prepared).response.sample).max()
    spoiled = np.abs(analyse_recording(recording, deconvolver=prepared).response.sample).max()
    assert peak > 0.8
    assert peak > 1.15 * spoiled


def test_a_recording_on_the_same_clock_is_left_as_it_is(deconvolver):
    recording = heard(high_pass)
    mended, drift = without_drift(recording, deconvolver=deconvolver, octave_s=2 / np.log2(2200))
    assert drift == 0
    assert mended is recording


def test_resampling_keeps_a_tone():
    # A band-limited tone has one value at any time, whatever the rate: closed form.
    tone = np.sin(2 * np.pi * 1000 * np.arange(44_100) / 44_100) * np.hanning(44_100)
    time = np.arange(48_000) / 48_000
    window = 0.5 - 0.5 * np.cos(2 * np.pi * time * 44_100 / 44_099)
    assert_allclose(resampled(tone, from_hz=44_100, to_hz=48_000), np.sin(2 * np.pi * 1000 * time) * window, atol=1e-5)


@pytest.mark.parametrize("shift", [0.0, 0.25, 0.5, 0.9])
def test_fractional_delays_come_back(shift):
    # A shifted band-limited impulse is exact in the frequency domain.
    size = 4096
    spectrum = np.exp(-2j * np.pi * fft.rfftfreq(size) * (1000 + shift))
    spectrum[-1] = 0
    found = find_arrival(ImpulseResponse(sample=fft.irfft(spectrum, size), sample_rate_hz=RATE, start_s=0))
    assert found.time_s * RATE == pytest.approx(1000 + shift, abs=0.02)
    assert found.polarity == "normal"


def test_a_response_that_swings_both_ways_alike_is_unsure():
    # A turn of 90 degrees (Hilbert transform) is odd around its arrival: neither polarity is right.
    impulse = np.zeros(4096)
    impulse[1000] = 1
    turned = np.imag(signal.hilbert(impulse))
    assert find_arrival(ImpulseResponse(sample=turned, sample_rate_hz=RATE, start_s=0)).polarity == "unsure"


def test_strong_late_reflection_does_not_hide_the_direct_sound():
    sample = np.zeros(8000)
    sample[1000], sample[1400] = 0.6, 1.0
    assert find_arrival(ImpulseResponse(sample=sample, sample_rate_hz=RATE, start_s=0)).time_s == 1000 / RATE


def test_third_octave_edges_are_those_of_the_standard():
    # IEC 61260-1:2014, eqs. 4 and 5 with G = 10^0.3: 1 kHz one-third octave, 891.25 to 1122.0 Hz.
    low, high = band_edges([1000.0], per_octave=3)
    assert_allclose([low[0], high[0]], [891.25, 1122.02], atol=0.01)


def test_smoothing_is_the_mean_over_the_band_of_the_standard():
    # Closed form: power f^2 over [a, b] has the mean (b^3 - a^3) / 3 (b - a), with the edges of IEC 61260-1.
    frequency = np.arange(1, 20_001) * 1.0
    a, b = 1000 / 10**0.05, 1000 * 10**0.05
    found = smoothed_power(frequency, frequency**2, at_hz=np.array([1000.0]), per_octave=3)
    assert_allclose(found, (b**3 - a**3) / (3 * (b - a)), rtol=1e-6)


def test_energy_average_of_spots_and_its_spread():
    # 10 lg((1 + 10) / 2) = 7.40 dB; standard deviation of 0 and 10 is 5.
    average = average_over_spots([[0.0, 0.0], [10.0, 0.0]])
    assert_allclose(average.level_db, [7.404, 0], atol=1e-3)
    assert_allclose(average.spread_db, [5, 0])
    assert_allclose(average_over_spots([[0.0], [10.0]], weights=[1, 0]).level_db, [0])
    with pytest.raises(InvalidValue, match="weights"):
        average_over_spots([[0.0], [10.0]], weights=[1])


def test_smoothing_a_dense_table_uses_all_its_points():
    # Alternating 0 and 6.02 dB on 1 Hz points: the mean power of 1 and 4 is 2.5, or 3.98 dB, wherever one looks.
    frequency = np.arange(20.0, 2000.0)
    table = FrequencyResponse(frequency_hz=frequency, level_db=20 * np.log10(1 + np.arange(frequency.size) % 2))
    smoothed = table.smoothed_on(np.array([500.0, 777.7, 1000.0]), per_octave=12)
    # Bands of 29 Hz and more hold whole pairs but for one point in 29: 0.15 dB.
    assert_allclose(smoothed, 10 * np.log10(2.5), atol=0.15)


@pytest.mark.parametrize(
    ("cut", "message"), [(slice(0, round(1.7 * RATE)), "ends early"), (slice(round(0.3 * RATE), None), "starts late")]
)
def test_recordings_that_miss_a_part_of_the_sweep_say_which(deconvolver, cut, message):
    capture = analyse_recording(heard(np.ones_like)[cut], deconvolver=deconvolver)
    assert message in {caution.kind for caution in capture.cautions}


def test_a_whole_recording_without_any_delay_gives_no_warning(deconvolver):
    assert analyse_recording(SWEEP.samples(), deconvolver=deconvolver).cautions == ()


@pytest.mark.parametrize("bits", [16, 24])
@pytest.mark.parametrize("frequency_hz", [10, 70, 997, 3001])
def test_tops_of_slow_tones_are_not_taken_for_clipping(bits, frequency_hz):
    # Quantised as a converter does; at 10 Hz and 16 bits some thirty samples share the top value.
    steps = 2 ** (bits - 1)
    tone = 0.5 * np.sin(2 * np.pi * frequency_hz * np.arange(RATE) / RATE + 0.3)
    as_recorded = np.round(tone * steps) / steps
    assert clipped_samples(as_recorded) == 0
    # 1 dB over the end of the range at the same pitch is found.
    assert clipped_samples(np.round(np.clip(tone, -0.445, 0.445) * steps) / steps) > 0


def test_what_another_spot_would_change_is_what_another_spot_changes():
    # Monte Carlo: n spots drawn from an area, and one more; the figure from the n alone against the change that came.
    rng = np.random.default_rng(11)
    frequency = np.geomspace(20, 300, 60)
    for count in (4, 9):
        message, came = [], []
        for _ in range(60):
            levels = rng.normal(0, 3, (count + 1, frequency.size))
            message.append(another_spot_db(levels[:-1], frequency))
            before, after = (10 * np.log10(np.mean(10 ** (some / 10), axis=0)) for some in (levels[:-1], levels))
            came.append(np.sqrt(np.mean((after - before) ** 2)))
        assert np.mean(message) == pytest.approx(np.mean(came), rel=0.06)


def test_advice_on_spots_follows_the_figure():
    assert advice_of(0.9, 5) == "more"
    assert spots_for(0.9, 5) == 8  # 5 x 0.9 / 0.6
    assert advice_of(0.4, 5) == "enough"
    assert advice_of(0.1, 9) == "fewer would do"
    with pytest.raises(InvalidValue, match="at least two"):
        another_spot_db(np.zeros((1, 3)), np.array([20.0, 50, 100]))


def test_a_curve_from_elsewhere_falls_beyond_its_ends_and_is_refused_where_it_says_too_little():
    at_hz = np.geomspace(50, 8000, 60)
    curve = curve_on_grid(FrequencyResponse(frequency_hz=at_hz, level_db=np.full(60, -3.0)))
    inside = (ANALYSIS_GRID_HZ >= 50) & (ANALYSIS_GRID_HZ <= 8000)
    assert_allclose(curve[inside], -3.0, atol=1e-9)
    below, above = (float(np.interp(f, ANALYSIS_GRID_HZ, curve)) for f in (25.0, 16_000.0))
    assert (below, above) == pytest.approx((-51.0, -51.0), abs=0.5)  # 48 dB an octave further
    for wrong, message in (
        (at_hz[:9], "too few"),
        (np.delete(at_hz, slice(20, 30)), "nothing stands between"),
        (np.geomspace(100, 190, 20), "only"),
    ):
        with pytest.raises(InvalidValue, match=message):
            curve_on_grid(FrequencyResponse(frequency_hz=wrong, level_db=np.zeros(wrong.size)))


def test_repeats_differ_by_the_rms_of_the_furthest_from_their_mean():
    flat = np.zeros(ANALYSIS_GRID_HZ.size)
    assert repeats_differ_db([flat], ANALYSIS_GRID_HZ, bass=False) is None
    assert repeats_differ_db([flat + 3.0, flat + 3.0], ANALYSIS_GRID_HZ, bass=False) == pytest.approx(0.0)
    # 4 dB from a mean of 2: by 2 dB each.
    assert repeats_differ_db([flat, flat + 4.0], ANALYSIS_GRID_HZ, bass=True) == pytest.approx(2.0)
