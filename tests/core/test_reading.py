"""What a response says, against closed forms, published methods and reference libraries."""

from functools import partial

import numpy as np
import pytest
import scipy
from numpy.testing import assert_allclose

from dolce.core.levels import NOMINAL_HZ
from dolce.core.reading import (
    NoiseUnder,
    decay_slices,
    decay_times,
    direct_sound,
    distortion_of,
    energy_near,
    excess_group_delay_s,
    group_delay_s,
    level_of_cycles_db,
    map_of_cycles,
    map_of_time,
    minimum_phase,
    noise_under,
    phase_curves,
    step_near,
    truncation,
)
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    Deconvolver,
    ImpulseResponse,
    auditory,
    equivalent_bandwidth_hz,
    finer_below,
    level_on_grid,
    smoothed_level_db,
)
from dolce.core.signals import Sweep
from dolce.errors import InvalidValue

RATE = 48_000
AT = np.array([30.0, 60, 125, 250, 500, 1000, 2000, 4000, 8000, 15_000])


def response_of(sample, start_s=0.0):
    return ImpulseResponse(sample=np.asarray(sample, float), sample_rate_hz=RATE, start_s=start_s)


def filtered(sections, seconds=1.0, delay_s=0.01):
    impulse = np.zeros(round(seconds * RATE))
    impulse[round(delay_s * RATE)] = 1
    return response_of(scipy.signal.sosfilt(sections, impulse))


LOW_PASS = scipy.signal.butter(2, 2000, fs=RATE, output="sos")


def test_group_delay_is_that_of_the_reference_library():
    # scipy.signal.group_delay of the same filter; 0.02 ms: smoothed over 1/48 octave, where the reference is a point.
    _, expected = scipy.signal.group_delay(scipy.signal.sos2tf(LOW_PASS), AT[:7], fs=RATE)
    found = group_delay_s(filtered(LOW_PASS), at_hz=AT[:7], arrival_s=0.01, per_octave=48)
    assert_allclose(found, expected / RATE, atol=2e-5)


def test_a_minimum_phase_filter_has_no_excess_and_an_all_pass_has_all_of_it():
    assert_allclose(excess_group_delay_s(filtered(LOW_PASS), at_hz=AT[:6], arrival_s=0.01, per_octave=24), 0, atol=3e-5)
    # Second-order all-pass at 200 Hz, Q 1 (Audio EQ Cookbook): its delay at the middle is 4 Q / w0.
    w = 2 * np.pi * 200 / RATE
    alpha = np.sin(w) / 2
    section = np.array([[1 - alpha, -2 * np.cos(w), 1 + alpha, 1 + alpha, -2 * np.cos(w), 1 - alpha]]) / (1 + alpha)
    excess = excess_group_delay_s(filtered(section), at_hz=np.array([200.0]), arrival_s=0.01, per_octave=48)
    assert excess[0] == pytest.approx(4 / (2 * np.pi * 200), rel=0.01)


def test_phase_unwraps_without_jumps_and_splits_into_minimum_and_excess():
    delayed = filtered(LOW_PASS, delay_s=0.012)  # 2 ms later than where the arrival is said to be
    phase = phase_curves(delayed, at_hz=AT[:6], arrival_s=0.010)
    _, expected = scipy.signal.sosfreqz(LOW_PASS, AT[:6], fs=RATE)
    own = np.degrees(np.unwrap(np.angle(expected)))
    assert_allclose(phase.minimum_deg, own, atol=1.0)
    turns = phase.excess_deg - -360 * AT[:6] * 0.002
    assert_allclose(turns, turns[0], atol=1.0)  # up to whole turns at 1 kHz
    assert np.all(np.abs(phase.wrapped_deg) <= 180)


def test_minimum_phase_is_that_of_the_reference_library():
    # scipy.signal.minimum_phase of a linear-phase filter, "homomorphic", half=False: same cepstral method, own grid.
    linear = scipy.signal.firwin2(1023, [0, 200, 400, 3000, 6000, 24_000], [1, 1, 0.3, 0.3, 1, 0.5], fs=RATE)
    expected = scipy.signal.minimum_phase(linear, method="homomorphic", n_fft=2**17, half=False)
    found = minimum_phase(response_of(np.pad(linear, (0, 4096)))).sample[: expected.size]
    assert np.abs(found - expected).max() < 1e-3 * np.abs(expected).max()


def test_a_gate_keeps_the_direct_sound_and_drops_what_comes_later():
    sample = np.zeros(RATE)
    sample[480], sample[480 + 480] = 1.0, 0.8  # a reflection 10 ms behind
    gated = direct_sound(response_of(sample), arrival_s=0.01, gate_ms=5)
    assert_allclose(level_on_grid(gated, at_hz=AT[3:], per_octave=None), 0, atol=1e-6)
    with pytest.raises(InvalidValue):
        direct_sound(response_of(sample), arrival_s=0.01, gate_ms=0.1)


def test_a_window_of_cycles_is_its_definition():
    # |sum h w e^(-i w t)| by hand: a reflection after t seconds counts 0.5 + 0.5 cos(pi t f / cycles).
    sample = np.zeros(RATE)
    sample[480], sample[480 + 240] = 1.0, 0.5
    at = np.array([100.0, 500, 1000, 1600])
    weight = np.where(0.005 * at < 6, 0.5 + 0.5 * np.cos(np.pi * 0.005 * at / 6), 0)
    expected = 20 * np.log10(np.abs(1 + 0.5 * weight * np.exp(-2j * np.pi * at * 0.005)))
    found = level_of_cycles_db(response_of(sample), at_hz=at, arrival_s=0.01, cycles=6)
    assert_allclose(found, expected, atol=1e-6)


def test_energy_over_time_is_the_hilbert_envelope():
    # scipy.signal.hilbert is the reference; a tone burst's envelope is its own amplitude.
    time = np.arange(RATE // 2) / RATE
    decay = np.exp(-time * 6.908 / 0.3) * np.cos(2 * np.pi * 1000 * time)
    curve = energy_near(response_of(np.pad(decay, (480, 0))), arrival_s=0.01, from_s=0.01, to_s=0.3, points=100)
    slope = np.polyfit(curve.time_s, curve.value, 1)[0]
    assert -60 / slope == pytest.approx(0.3, rel=0.02)


def test_the_step_of_an_impulse_stays():
    sample = np.zeros(4800)
    sample[480] = 1
    step = step_near(response_of(sample), arrival_s=0.01, from_s=-0.005, to_s=0.05)
    assert_allclose(step.value, (step.time_s > -1e-9).astype(float))


def noise_decay(seconds, *, floor_db=-90, seed=1, length_s=1.0):
    rng = np.random.default_rng(seed)
    time = np.arange(round(length_s * RATE)) / RATE
    sample = rng.standard_normal(time.size) * 10 ** (-3 * time / seconds)
    return response_of(sample + 10 ** (floor_db / 20) * rng.standard_normal(time.size))


def test_decay_times_are_those_of_a_synthetic_decay():
    # An exponential of known T60; ISO 3382-1 evaluation ranges.
    bands = {band.nominal_hz: band for band in decay_times(noise_decay(0.4), arrival_s=0.0)}
    for nominal in (1000, 2000, 4000, 8000):
        for kind in ("T20", "T30"):
            assert bands[nominal][kind].why_not == ""
            # Three standard deviations of one decay: 0.88 (T20), 0.55 (T30) sqrt((1 + 1.9 or 1.52) / BT), ISO 3382-1,
            # eqs. 7 and 8 with n = N = 1.
            factor, more = {"T20": (0.88, 1.90), "T30": (0.55, 1.52)}[kind]
            scatter = factor * np.sqrt((1 + more) / (0.23 * nominal * 0.4))
            assert bands[nominal][kind].seconds == pytest.approx(0.4, rel=3 * scatter)
    mean = np.mean([bands[nominal]["T30"].seconds for nominal in (1000, 2000, 4000, 8000)])
    assert mean == pytest.approx(0.4, rel=0.04)


def test_a_decay_shorter_than_the_bands_own_ringing_is_not_stretched_by_it():
    # Jacobsen and Rindel, JASA 82 (1987): filtered backwards a band of 29 Hz follows 0.15 s, forwards it can't.
    time = np.arange(RATE) / RATE
    click = np.exp(-6.908 * time / 0.15) * np.sin(2 * np.pi * 125.9 * time)
    band = next(b for b in decay_times(response_of(np.pad(click, (4800, 0))), arrival_s=0.1) if b.nominal_hz == 125)
    assert band["T20"].seconds == pytest.approx(0.15, rel=0.1)


def test_decay_times_that_cannot_be_relied_on_say_why():
    # ISO 3382-1: the noise must lie 10 dB below the range; a filter's own ringing: B T < 4 backwards.
    noisy = {band.nominal_hz: band for band in decay_times(noise_decay(0.4, floor_db=-38), arrival_s=0.0)}
    assert noisy[2000]["T30"].seconds is None
    assert noisy[2000]["T30"].why_not == "noise"
    assert noisy[2000]["EDT"].seconds is not None
    short = {band.nominal_hz: band for band in decay_times(noise_decay(0.1), arrival_s=0.0)}
    assert short[25]["T20"].why_not in ("filter", "noise")
    # Two slopes: 0.1 s first, 0.8 s from 25 dB down on.
    fast, slow = noise_decay(0.1, seed=2).sample, noise_decay(0.8, seed=3).sample
    bent = {band.nominal_hz: band for band in decay_times(response_of(fast + 0.05 * slow), arrival_s=0.0)}
    assert bent[2000]["T30"].why_not == "bent"


def test_the_noise_is_found_where_the_decay_meets_it():
    # Lundeby et al. 1995: the knee of an ideal decay, 60 dB above the floor at T = 0.4 s, lies at 0.4 s.
    rng = np.random.default_rng(4)
    time = np.arange(RATE) / RATE
    power = 10 ** (-6 * time / 0.4) * rng.exponential(size=RATE) + 1e-6 * rng.exponential(size=RATE)
    cut, noise, late_s = truncation(power, RATE)
    assert cut / RATE == pytest.approx(0.4, abs=0.03)
    assert noise == pytest.approx(1e-6, rel=0.1)
    assert late_s == pytest.approx(0.4, rel=0.05)


@pytest.mark.parametrize("make", [partial(map_of_cycles, cycles=12), partial(map_of_time, window_ms=100)])
def test_a_ringing_mode_stands_in_the_map_where_and_as_long_as_it_rings(make):
    time = np.arange(RATE) / RATE
    ringing = response_of(np.exp(-6.908 * time / 0.6) * np.sin(2 * np.pi * 50 * time))
    at_hz, at_s = np.geomspace(30, 120, 61), np.linspace(0.1, 0.5, 41)
    found = make(ringing, at_hz=at_hz, at_s=at_s, arrival_s=0.0)
    assert at_hz[np.argmax(found.level_db[20])] == pytest.approx(50, rel=0.03)
    column = found.level_db[:, np.argmin(np.abs(at_hz - 50))]
    assert -60 / np.polyfit(at_s, column, 1)[0] == pytest.approx(0.6, rel=0.05)


def test_a_map_is_the_spectrogram_of_the_reference_library():
    # scipy.signal.ShortTimeFFT with the same Gaussian: levels relative to the strongest agree where it is not faint.
    response = noise_decay(0.3, seed=5)
    at_hz, at_s = np.array([500.0, 1000, 2000, 4000]), np.array([0.05, 0.1, 0.15])
    found = map_of_time(response, at_hz=at_hz, at_s=at_s, arrival_s=0.0, window_ms=60)
    window = scipy.signal.windows.gaussian(4801, 0.01 * RATE)
    transform = scipy.signal.ShortTimeFFT(window, hop=48, fs=RATE, mfft=4800 * 4, scale_to="magnitude")
    power = np.abs(transform.stft(response.sample)) ** 2
    rows, columns = np.rint(at_hz / transform.delta_f).astype(int), np.rint(at_s / 0.001).astype(int) - transform.p_min
    expected = 10 * np.log10(power[np.ix_(rows, columns)]).T
    assert_allclose(found.level_db - found.level_db[0, 0], expected - expected[0, 0], atol=0.2)


def test_slices_begin_with_the_level_and_fall():
    response = noise_decay(0.3, seed=6)
    at_hz = np.geomspace(200, 8000, 20)
    slices = decay_slices(response, at_hz=at_hz, at_s=np.array([0.0, 0.05, 0.1, 0.15]), arrival_s=0.0, per_octave=3)
    level = level_on_grid(response, at_hz=at_hz, per_octave=3)
    assert_allclose(slices.level_db[0] - slices.level_db[0].mean(), level - level.mean(), atol=1.0)
    assert np.diff(slices.level_db.mean(axis=1)) == pytest.approx(-10, abs=1.0)  # 60 dB in 0.3 s


def recorded(sweep, *, second=0.0, third=0.0, noise=0.0):
    played = np.concatenate([sweep.samples(), np.zeros(RATE)])
    heard = played + second * played**2 + third * played**3
    heard = scipy.signal.sosfilt(scipy.signal.butter(1, 5, "high", fs=RATE, output="sos"), heard)
    return heard + noise * np.random.default_rng(7).standard_normal(heard.size)


def deconvolver_for(sweep, heard):
    return Deconvolver(sweep.samples(), sample_rate_hz=RATE, recording_samples=heard.size, band_hz=(10, 22_000))


def test_harmonics_are_those_of_a_known_polynomial():
    # Farina 2000, and trigonometry: x + a x^2 + b x^3 at amplitude A has a A / 2 and b A^2 / 4 beside 1 + 3 b A^2 / 4.
    sweep = Sweep(duration_s=5, level_dbfs=-6)
    amplitude = 10 ** (-6 / 20)
    heard = recorded(sweep, second=0.02, third=0.05)
    found = distortion_of(
        heard, deconvolver=deconvolver_for(sweep, heard), at_hz=np.array([100.0, 1000, 3000]), arrival_s=0.0
    )
    beside = 1 + 0.75 * 0.05 * amplitude**2
    assert_allclose(found.harmonic_db[2], 20 * np.log10(0.02 * amplitude / 2 / beside), atol=0.3)
    assert_allclose(found.harmonic_db[3], 20 * np.log10(0.05 * amplitude**2 / 4 / beside), atol=0.3)
    assert np.all(found.harmonic_db[4] < -75)
    both = 10 * np.log10(10 ** (found.harmonic_db[2] / 10) + 10 ** (found.harmonic_db[3] / 10))
    assert_allclose(found.total_db, both, atol=0.2)


def test_a_harmonic_above_what_was_recorded_is_not_told():
    sweep = Sweep(duration_s=5, level_dbfs=-6)
    heard = recorded(sweep, third=0.05)
    found = distortion_of(heard, deconvolver=deconvolver_for(sweep, heard), at_hz=np.array([5000.0, 9000]), arrival_s=0)
    assert np.isfinite(found.harmonic_db[3][0])
    assert np.isnan(found.harmonic_db[3][1])


def test_noise_beside_the_harmonics_is_what_harmonics_of_nothing_read():
    # Without distortion the second harmonic is noise alone; 1.5 dB: mean over 30 frequencies.
    sweep = Sweep(duration_s=5, level_dbfs=-6)
    heard = recorded(sweep, noise=1e-3)
    at = np.geomspace(100, 8000, 30)
    found = distortion_of(heard, deconvolver=deconvolver_for(sweep, heard), at_hz=at, arrival_s=0.0)
    assert np.mean(found.harmonic_db[2] - found.noise_db) == pytest.approx(0, abs=1.5)


def test_noise_under_a_level_is_what_the_window_lets_pass():
    # Made as a recording of noise alone goes through the same division and the same window.
    sweep = Sweep(duration_s=5, level_dbfs=-6)
    heard = recorded(sweep, noise=1e-3)
    deconvolver = deconvolver_for(sweep, heard)
    bands = tuple(float(f) for f in NOMINAL_HZ if 100 <= f <= 8000)

    def kept(sound):
        whole = deconvolver.impulse(deconvolver.spectrum(sound)[1])
        return whole.around(0.0, before_s=0.01, after_s=0.9)

    found = noise_under(heard, kept(heard), deconvolver=deconvolver, nominal_hz=bands, arrival_s=0.0)
    alone = kept(heard - recorded(sweep))
    truth = noise_under(heard, alone, deconvolver=deconvolver, nominal_hz=bands, arrival_s=0.0).level_db
    # The window fades over its last fifth: 0.6 dB; single bands scatter.
    assert np.mean(found.noise_db - truth) == pytest.approx(0.6, abs=0.6)
    assert_allclose(found.noise_db, truth, atol=4)


def test_a_recording_without_silence_behind_tells_no_noise():
    sweep = Sweep(duration_s=5, level_dbfs=-6)
    heard = recorded(sweep)[: 5 * RATE]
    with pytest.raises(InvalidValue, match="too little silence"):
        distortion_of(heard, deconvolver=deconvolver_for(sweep, heard), at_hz=AT, arrival_s=0.0)


def test_a_sweep_too_short_to_part_harmonics_is_refused():
    sweep = Sweep(duration_s=0.5)
    heard = recorded(sweep)
    with pytest.raises(InvalidValue, match="does not part"):
        distortion_of(heard, deconvolver=deconvolver_for(sweep, heard), at_hz=AT, arrival_s=0)


def test_auditory_widths_are_those_of_glasberg_and_moore():
    # Table of their formula: 35.5 Hz at 100 Hz, 132.6 Hz at 1 kHz, 1104 Hz at 10 kHz (24.7 (4.37 F + 1), 1990).
    assert_allclose(equivalent_bandwidth_hz([100, 1000, 10_000]), [35.5, 132.6, 1104.1], rtol=2e-3)
    from dolce.core.dsp import band_edges

    at = np.array([100.0, 1000, 10_000])
    low, high = band_edges(at, per_octave=auditory(at))
    assert_allclose(high - low, equivalent_bandwidth_hz(at))


def test_smoothing_may_go_with_frequency():
    assert_allclose(finer_below([50, 100, 5000, 12_000]), [24, 24, 3, 3])
    level = np.random.default_rng(8).normal(0, 3, ANALYSIS_GRID_HZ.size)
    mixed = smoothed_level_db(level, per_octave=finer_below(ANALYSIS_GRID_HZ))
    low, high = ANALYSIS_GRID_HZ < 90, ANALYSIS_GRID_HZ > 5200
    assert_allclose(mixed[low], smoothed_level_db(level, per_octave=24)[low])
    assert_allclose(mixed[high], smoothed_level_db(level, per_octave=3)[high])


def test_noise_below_the_end_of_a_loudspeaker_says_nothing_of_a_take():
    bands = (25.0, 50.0, 100.0, 200.0, 400.0, 800.0, 1600.0)
    level = np.array([-40.0, -30.0, -2.0, 0.0, 0.0, 0.0, 0.0])
    noise = NoiseUnder(nominal_hz=bands, level_db=level, noise_db=np.array([-42, -31, -25, -40, -50, -50, -45.0]))
    assert noise.least_above(20_000) == (100.0, 23.0)  # not 1 dB at 50 Hz, where it is 30 dB softer than above
    assert noise.least_above(90.0) == (50.0, 1.0)  # a sub that plays no further up
