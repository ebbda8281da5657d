"""Marks that tell a recorder's clock, hum and noise taken out, polarity of real-like speakers; truth is known."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.alignment import common_polarity
from dolce.core.alignment.main_channels import align_main_channels
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    Deconvolver,
    ImpulseResponse,
    analyse_recording,
    drift_between_chirps_ppm,
    find_arrival,
    find_chirps,
    level_on_grid,
)
from dolce.core.response.hum import hum_in
from dolce.core.signals import Sweep, chirps_in, sweep_part_s, with_chirps
from dolce.errors import InvalidValue

RATE = 48_000
SWEEP = Sweep(duration_s=3.0, sample_rate_hz=RATE)
MARKED = with_chirps(SWEEP.samples(), sample_rate_hz=RATE)
MARKS = chirps_in(MARKED, sample_rate_hz=RATE)


def two_way(samples, crossover_hz=2000.0):
    """Phase of a Linkwitz-Riley crossover of 24 dB per octave: a second-order all-pass (Linkwitz, JAES 24, 1976)."""
    w = 2 * np.pi * crossover_hz
    b, a = signal.bilinear([1, -np.sqrt(2) * w, w * w], [1, np.sqrt(2) * w, w * w], RATE)
    return signal.lfilter(b, a, samples)


def room(seed=1, *, strong=0.8, size=24_000):
    """A direct sound, a handful of reflections and a tail that falls by 60 dB in 0.3 s."""
    rng = np.random.default_rng(seed)
    response = np.zeros(size)
    response[480] = 1.0
    for _ in range(5):
        response[480 + rng.integers(60, 900)] += rng.choice([-1, 1]) * rng.uniform(0.3, strong)
    late = np.arange(size - 600)
    response[600:] += 0.05 * rng.standard_normal(late.size) * 10 ** (-3 * late / RATE / 0.3)
    return signal.sosfilt(signal.butter(2, 60.0, "high", fs=RATE, output="sos"), two_way(response))


def recorded(response, stimulus=MARKED, *, tail_s=1.2):
    played = np.concatenate([np.zeros(2400), stimulus, np.zeros(round(tail_s * RATE))])
    return signal.fftconvolve(played, response)[: played.size]


def on_another_clock(samples, ppm):
    """Read at other times by a windowed sinc of 64 points, apart from the code under test."""
    at = np.arange(samples.size) / (1 + ppm * 1e-6)
    base = np.floor(at).astype(int)
    out = np.zeros(samples.size)
    padded = np.pad(samples, 40)
    for k in range(-31, 33):
        d = k - (at - base)
        out += np.take(padded, base + k + 40, mode="clip") * np.sinc(d) * np.cos(np.pi * d / 66) ** 2
    return out


def test_marks_are_found_where_they_stand_and_nowhere_else():
    late = np.concatenate([np.zeros(777), MARKED, np.zeros(5000)])
    assert chirps_in(late, sample_rate_hz=RATE) == (MARKS[0] + 777, MARKS[1] + 777)
    assert chirps_in(SWEEP.samples(), sample_rate_hz=RATE) is None
    assert chirps_in(np.zeros(0), sample_rate_hz=RATE) is None
    assert sweep_part_s(MARKED.size / RATE) == pytest.approx(3.0)
    assert np.abs(MARKED).max() == np.abs(SWEEP.samples()).max()  # no louder than the sweep


@pytest.mark.parametrize("ppm", [-120.0, 0.0, 50.0])
@pytest.mark.parametrize("low_pass_hz", [None, 120.0])
def test_the_distance_of_the_marks_tells_the_clock_whatever_the_speaker_does(ppm, low_pass_hz):
    response = room()
    if low_pass_hz:  # a sub
        response = signal.sosfilt(signal.butter(4, low_pass_hz, fs=RATE, output="sos"), response)
    clean = on_another_clock(recorded(response), ppm)
    noise = np.random.default_rng(3).standard_normal(clean.size) * clean.std() * 10 ** (-50 / 20)
    found = drift_between_chirps_ppm(clean + noise, chirps=MARKS, sample_rate_hz=RATE)
    assert found == pytest.approx(ppm, abs=0.5)


@pytest.mark.parametrize(("ppm", "begins_s"), [(-280.0, 0.0), (280.0, 1.31), (280.0, 9.7)])
def test_marks_are_heard_wherever_they_begin_and_however_far_the_clock_is_off(ppm, begins_s):
    # Long enough for several blocks of the search: a second and a third each.
    clean = on_another_clock(np.concatenate([np.zeros(round(begins_s * RATE)), recorded(room())]), ppm)
    noise = np.random.default_rng(4).standard_normal(clean.size) * clean.std() * 10 ** (-30 / 20)
    found = find_chirps(clean + noise, apart=MARKS[1] - MARKS[0], sample_rate_hz=RATE)
    assert found.drift_ppm == pytest.approx(ppm, abs=1.0)
    begins = (round(begins_s * RATE) + 2400 + 480) * (1 + ppm * 1e-6) + MARKS[0]  # of silence, and of flight
    assert 0 <= found.first - begins < 900  # one of the room's reflections may be the loudest


def test_a_recording_without_marks_tells_no_clock():
    noise = np.random.default_rng(5).standard_normal(RATE * 6) * 0.1
    assert drift_between_chirps_ppm(noise, chirps=MARKS, sample_rate_hz=RATE) is None
    assert drift_between_chirps_ppm(noise[:RATE], chirps=MARKS, sample_rate_hz=RATE) is None
    plain = recorded(room(), SWEEP.samples())
    assert drift_between_chirps_ppm(plain, chirps=MARKS, sample_rate_hz=RATE) is None


def test_hum_is_fitted_where_it_stands_out_and_left_where_it_does_not():
    time = np.arange(8 * RATE) / RATE
    rng = np.random.default_rng(7)
    noise = 0.01 * rng.standard_normal(time.size)
    hum = 0.02 * np.sin(2 * np.pi * 60.07 * time + 1) + 0.008 * np.sin(2 * np.pi * 180.21 * time)
    found = hum_in(noise + hum, sample_rate_hz=RATE)
    assert np.std(found - hum) < 0.05 * np.std(hum)
    assert hum_in(noise, sample_rate_hz=RATE) is None


@pytest.fixture(scope="module")
def noisy():
    """A recording with noise that falls by 3 dB per octave and hum, 20 dB below the sound, and its true level."""
    response = room()
    clean = recorded(response)
    rng = np.random.default_rng(11)
    spectrum = np.fft.rfft(rng.standard_normal(clean.size))
    frequency = np.fft.rfftfreq(clean.size, 1 / RATE)
    pink = np.fft.irfft(spectrum / np.sqrt(np.maximum(frequency, 15)), clean.size)
    noise = pink / pink.std() + 0.6 * np.sin(2 * np.pi * 50 * np.arange(clean.size) / RATE)
    heard = clean + noise * clean.std() / noise.std() / 10
    truth = level_on_grid(
        ImpulseResponse(sample=response, sample_rate_hz=RATE, start_s=0), at_hz=ANALYSIS_GRID_HZ, per_octave=12
    )
    return heard, truth


def test_noise_behind_the_response_is_left_out_octave_by_octave(noisy, monkeypatch):
    heard, truth = noisy
    deconvolver = Deconvolver(MARKED, sample_rate_hz=RATE, recording_samples=heard.size, sweep_s=3.0)
    inside = (ANALYSIS_GRID_HZ > 60) & (ANALYSIS_GRID_HZ < 16_000)

    def error():
        response = analyse_recording(heard, deconvolver=deconvolver).response
        return (level_on_grid(response, at_hz=ANALYSIS_GRID_HZ, per_octave=12) - truth)[inside]

    windowed = error()
    monkeypatch.setattr("dolce.core.response.capture.NOISE_MATTERS_BELOW_DB", -100.0)
    monkeypatch.setattr("dolce.core.response.capture._HUM_MATTERS_BELOW_DB", -100.0)
    plain = error()
    assert np.sqrt(np.mean(windowed**2)) < 0.8 * np.sqrt(np.mean(plain**2))
    assert np.abs(windowed).max() < 1.6  # what plain division does not reach


def test_a_quiet_recording_is_not_touched_by_windows():
    heard = recorded(room())
    deconvolver = Deconvolver(MARKED, sample_rate_hz=RATE, recording_samples=heard.size, sweep_s=3.0)
    capture = analyse_recording(heard, deconvolver=deconvolver)
    truth = level_on_grid(
        ImpulseResponse(sample=room(), sample_rate_hz=RATE, start_s=0), at_hz=ANALYSIS_GRID_HZ, per_octave=12
    )
    inside = (ANALYSIS_GRID_HZ > 40) & (ANALYSIS_GRID_HZ < 16_000)
    measured = level_on_grid(capture.response, at_hz=ANALYSIS_GRID_HZ, per_octave=12)
    assert_allclose(measured[inside], truth[inside], atol=0.05)


def test_a_sub_is_found_out_and_read_in_its_band():
    low = signal.butter(4, 110.0, fs=RATE, output="sos")
    clean = recorded(signal.sosfilt(low, room(strong=0.4)))
    noise = np.random.default_rng(13).standard_normal(clean.size) * clean.std() / 10
    deconvolver = Deconvolver(MARKED, sample_rate_hz=RATE, recording_samples=clean.size, sweep_s=3.0)
    quiet = analyse_recording(clean, deconvolver=deconvolver, is_sub=True)
    found = analyse_recording(clean + noise, deconvolver=deconvolver, is_sub=None)
    assert found.arrival.time_s == pytest.approx(quiet.arrival.time_s, abs=1e-4)
    assert found.arrival.polarity == "normal"
    assert found.quality.signal_to_noise_db > 35  # white noise lies mostly above its band
    main = analyse_recording(recorded(room()), deconvolver=deconvolver, is_sub=None)
    assert main.arrival.time_s == pytest.approx((480 + 2400) / RATE, abs=5e-5)  # no sub: the direct sound itself


@pytest.mark.parametrize("crossover_hz", [1500.0, 2200.0, 3000.0])
def test_polarity_of_two_way_speakers_is_told_and_never_wrong(crossover_hz):
    on_progress = 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        response = np.zeros(12_000)
        response[1000] = 1
        for _ in range(rng.integers(1, 6)):  # reflections as loud as the direct sound
            response[1000 + rng.integers(30, 400)] += rng.choice([-1, 1]) * rng.uniform(0.3, 1.0)
        response = two_way(response + 0.005 * rng.standard_normal(response.size), crossover_hz)
        response = signal.sosfilt(signal.butter(4, 80.0, "high", fs=RATE, output="sos"), response)
        for sign, right in ((1, "normal"), (-1, "inverted")):
            found = find_arrival(ImpulseResponse(sample=sign * response, sample_rate_hz=RATE, start_s=0))
            assert found.polarity in (right, "unsure")
            on_progress += found.polarity == right
    assert on_progress >= 0.85 * 80


def test_a_speaker_that_plays_nothing_where_polarity_is_read_is_unsure():
    on_progress = 0
    for seed in range(20):
        response = 0.002 * np.random.default_rng(seed).standard_normal(12_000)
        response[6000] += 1
        treble = signal.sosfilt(signal.butter(8, 6000.0, "high", fs=RATE, output="sos"), response)
        noisy = treble + 0.01 * np.random.default_rng(100 + seed).standard_normal(12_000)
        on_progress += find_arrival(ImpulseResponse(sample=noisy, sample_rate_hz=RATE, start_s=0)).polarity != "unsure"
    assert on_progress == 0


@pytest.mark.parametrize(
    ("on_progress", "together"),
    [
        (["normal"] * 3, "normal"),
        (["inverted", "inverted", "unsure"], "inverted"),
        (["normal", "unsure", "unsure"], "unsure"),
        (["normal", "inverted"], "unsure"),
        (["unsure"], "unsure"),
        (["normal"] * 9 + ["inverted"], "normal"),
        (["normal"] * 7 + ["inverted"] * 3, "unsure"),
        (["inverted"] * 7 + ["normal"] * 3, "unsure"),
    ],
)
def test_takes_of_one_channel_tell_polarity_together(on_progress, together):
    assert common_polarity(on_progress) == together


def test_mains_are_brought_level_in_time_and_in_phase():
    def taken(gain_db, delay_samples, sign=1):
        return [
            ImpulseResponse(
                sample=sign * 10 ** (gain_db / 20) * np.roll(room(seed), delay_samples),
                sample_rate_hz=RATE,
                start_s=-0.01,
            )
            for seed in (1, 2)
        ]

    found = align_main_channels({"L": taken(0, 0), "R": taken(2.5, 96), "C": taken(-1, 20, sign=-1)})
    assert {c: round(s.trim_db, 3) for c, s in found.items()} == {"L": -1.0, "R": -3.5, "C": 0.0}
    assert found["L"].delay_s - found["R"].delay_s == pytest.approx(96 / RATE, abs=2e-6)
    assert min(s.delay_s for s in found.values()) == 0
    assert {c: s.polarity for c, s in found.items()} == {"L": "normal", "R": "normal", "C": "inverted"}
    assert found["L"].arrival_s == pytest.approx(480 / RATE - 0.01, abs=5e-5)
    with pytest.raises(InvalidValue, match="silent"):
        align_main_channels({"L": [ImpulseResponse(sample=np.zeros(100), sample_rate_hz=RATE, start_s=0)]})
