import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.dsp import dbfs_rms, peak_dbfs
from dolce.core.response import Deconvolver
from dolce.core.signals import Sweep, exponential_sweep, harmonic_offset_s, tone
from dolce.errors import InvalidValue


def test_sweep_agrees_with_the_chirp_of_a_reference_library():
    # scipy.signal.chirp(method="logarithmic") is the same closed form, starting as a cosine: a quarter turn apart.
    own = exponential_sweep(start_hz=20, stop_hz=20_000, duration_s=2, sample_rate_hz=48_000)
    time = np.arange(own.size) / 48_000
    reference = signal.chirp(time, 20, 2, 20_000, method="logarithmic", phi=-90)
    # Both evaluate a phase of 2e4 rad in doubles; 1e-8 is far above that rounding.
    assert_allclose(own, reference, atol=1e-8)


def test_second_harmonic_of_five_seconds_comes_half_a_second_early():
    # Farina, AES 108th, 2000: L ln 2 with L = 5 s / ln(1000) = 0.7238 s gives 0.5017 s.
    assert harmonic_offset_s(2, start_hz=20, stop_hz=20_000, duration_s=5) == pytest.approx(0.5017, abs=5e-5)


def test_harmonic_distortion_lands_where_the_offset_says():
    # Farina 2000 on a system known in closed form: y = x + 0.1 x^2 has a second harmonic and nothing above.
    sweep = Sweep(start_hz=20, stop_hz=10_000, duration_s=2, level_dbfs=0)
    x = sweep.samples()
    deconvolver = Deconvolver(x, sample_rate_hz=48_000, recording_samples=x.size, band_hz=(20, 10_000))
    whole = deconvolver.impulse(deconvolver.spectrum(x + 0.1 * x**2)[1])
    early = np.abs(np.where(whole.time_s < -0.05, whole.sample, 0))
    expected = -harmonic_offset_s(2, start_hz=20, stop_hz=10_000, duration_s=2)
    # One millisecond: the harmonic's own band limits (40 Hz to 10 kHz) spread its peak.
    assert whole.time_s[np.argmax(early)] == pytest.approx(expected, abs=1e-3)


def test_level_is_stated_as_aes17_counts_it():
    # AES17: a full-scale sine is 0 dBFS RMS; a sweep away from its fades is a sine of slowly rising pitch.
    samples = Sweep(level_dbfs=-12, duration_s=3).samples()
    assert dbfs_rms(samples) == pytest.approx(-12, abs=0.05)
    assert peak_dbfs(samples) == pytest.approx(-12, abs=0.01)


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"start_hz": 500, "stop_hz": 100}, "does not rise"),
        ({"stop_hz": 30_000}, "does not fit"),
        ({"duration_s": 0}, "out of range"),
        ({"level_dbfs": 3}, "out of range"),
    ],
)
def test_impossible_sweeps_are_refused_with_the_reason(change, message):
    with pytest.raises(InvalidValue, match=message):
        Sweep(**change)


def test_a_tone_fades_in_and_out_over_ten_milliseconds():
    sample = tone(samples=4800, sample_rate_hz=48_000, frequency_hz=12_000.0, level_dbfs=-6.0)
    envelope = np.abs(sample[1::2]) / 10 ** (-6 / 20)  # every other sample is a peak: four to a period
    time_s = np.arange(1, 4800, 2) / 48_000
    assert_allclose(envelope, np.clip(np.minimum(time_s, time_s[::-1]) / 0.01, 0, 1), atol=0.003)
