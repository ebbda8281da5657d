"""Signal processing, each part held once against scipy, a published formula or plain arithmetic."""

import numpy as np
import pytest
import scipy
from numpy.testing import assert_allclose

from dolce.core.dsp import (
    all_pass_response,
    band_edges,
    crossover_sides,
    delay_response,
    energy_mean_db,
    fade_in,
    fade_out,
    faded,
    in_band,
    mid_bands,
    minimum_phase_rad,
    minimum_phase_spectrum,
    octave_mean,
    raised_cosine,
    smoothed_db,
    smoothed_power,
    third_octaves_of,
    vertex,
)


def test_fades_are_halves_of_the_windows_of_the_reference_library():
    """scipy.signal.windows: a Hann window for the curve, a cosine window squared for fades."""
    assert_allclose(raised_cosine(np.arange(9) / 8), scipy.signal.windows.hann(17)[:9], atol=1e-15)
    assert raised_cosine([-1, 2]).tolist() == [0, 1]
    assert_allclose(np.concatenate([fade_in(7), fade_out(7)]), scipy.signal.windows.cosine(14) ** 2, atol=1e-15)
    assert_allclose(fade_in(7) + fade_out(7), 1)  # a cross-fade keeps what both have in common


def test_samples_between_fades_are_left_and_the_given_ones_too():
    given = np.ones(10)
    out = faded(given, rising=3, falling=20)
    assert_allclose(out, np.concatenate([fade_in(3), np.ones(7)]) * fade_out(10))
    assert given.tolist() == [1] * 10
    assert faded(given).tolist() == [1] * 10


def test_a_band_holds_both_of_its_edges():
    at = np.array([499.0, 500, 1000, 2000, 2001])
    assert in_band(at, (500, 2000)).tolist() == [False, True, True, True, False]
    assert in_band([249.0, 250, 4000, 4001], (500, 2000), octaves=1).tolist() == [False, True, True, False]


def test_smoothing_is_the_mean_between_the_edges_of_the_band():
    """Against the trapezoidal rule over the points and both edges, which is exact for straight lines."""
    at = np.linspace(20, 2000, 400)
    power = np.random.default_rng(1).uniform(0.1, 3, at.size)
    for centre, per_octave in ((100.0, 3.0), (501.0, 6.0), (1000.0, 1.0)):
        low, high = band_edges(centre, per_octave=per_octave)
        inside = np.concatenate([[low], at[(at > low) & (at < high)], [high]])
        whole = scipy.integrate.trapezoid(np.interp(inside, at, power), inside)
        found = smoothed_power(at, power, at_hz=np.array([centre]), per_octave=per_octave)
        assert found == pytest.approx(whole / (high - low), rel=1e-9)
    both = smoothed_db(at, 10 * np.log10(power), at_hz=np.array([100.0, 501.0]), per_octave=np.array([3.0, 6.0]))
    assert both[1] == pytest.approx(
        10 * np.log10(smoothed_power(at, power, at_hz=np.array([501.0]), per_octave=6)[0]), abs=1e-9
    )


def test_smoothing_near_the_ends_leaves_a_slope_where_it_is():
    at = mid_bands(per_octave=48, from_hz=20, to_hz=20_000)
    slope = 3 * np.log2(at)
    assert_allclose(smoothed_power(at, slope, at_hz=at, per_octave=3), slope, atol=0.05)


def test_a_mean_over_octaves_leaves_a_slope_as_it_is():
    """Unlike a mean of power, which leans to where more Hz are."""
    at = mid_bands(per_octave=48, from_hz=20, to_hz=20_000)
    slope = -24 * np.log2(at)
    assert_allclose(octave_mean(at, slope, at_hz=at, per_octave=1.5), slope, atol=1e-9)
    step = np.where(at < 1000, 0.0, 6.0)
    near = octave_mean(at, step, at_hz=np.array([1000 * 2 ** (1 / 12), 1000.0]), per_octave=3)
    assert near[0] == pytest.approx(6 * (1 / 6 + 1 / 12) * 3, abs=0.25)  # three quarters of the band lie above it
    assert near[1] == pytest.approx(3, abs=0.2)


def test_third_octaves_are_energy_means():
    at = mid_bands(per_octave=48, from_hz=20, to_hz=20_000)
    level = np.where(at < 1000, 0.0, 10.0)
    mids, found = third_octaves_of(at, level)
    assert found[np.searchsorted(mids, 800) - 1] == pytest.approx(0)
    half = found[np.argmin(np.abs(mids - 1000))]
    assert half == pytest.approx(energy_mean_db([0.0, 10.0]), abs=0.4)  # 1 kHz cuts its own band in two


def test_minimum_phase_is_that_of_a_known_filter():
    """Peaking filters have their zeros inside the unit circle: phase from their level alone is their own phase."""
    b, a = scipy.signal.iirpeak(0.1, 3)
    b = a + 1.5 * b  # a boost of 8 dB; still of minimum phase
    assert np.all(np.abs(np.roots(b)) < 1)
    _, response = scipy.signal.freqz(b, a, worN=4097, include_nyquist=True)
    level = np.log(np.abs(response))
    both = minimum_phase_spectrum(np.stack([level, np.zeros(level.size)]))
    assert_allclose(both[0], response, atol=1e-9)
    assert_allclose(both[1], 1, atol=1e-12)
    assert_allclose(minimum_phase_rad(level), np.unwrap(np.angle(response)), atol=1e-9)


@pytest.mark.parametrize("order", [2, 4, 8])
def test_sides_of_a_crossover_add_up_to_all_of_it(order):
    """Linkwitz 1976: both halves -6.02 dB at the crossover frequency, in phase, and flat together."""
    at = np.geomspace(20, 320, 60)
    high, low = crossover_sides(80, at, order=order)
    turned = -1 if order == 2 else 1  # order 2 ends half a turn apart
    assert_allclose(np.abs(high + turned * low), 1, atol=1e-9)
    middle = [20 * np.log10(abs(side[0])) for side in crossover_sides(80, [80.0], order=order)]
    assert_allclose(middle, -6.02, atol=0.01)


def test_butterworths_add_up_to_3_db():
    high, low = crossover_sides(80, [80.0], order=2, kind="butterworth")
    assert 20 * np.log10(abs(high[0] - low[0])) == pytest.approx(3.01, abs=0.01)


def test_the_sum_of_a_crossover_is_the_all_pass_of_its_frequency():
    at = np.geomspace(20, 2000, 50)
    high, low = crossover_sides(300, at)
    found = all_pass_response(300, np.sqrt(0.5), at)
    assert_allclose(found, high + low, atol=1e-12)
    assert_allclose(np.abs(all_pass_response(300, 3, at)), 1)
    assert abs(np.angle(all_pass_response(300, 3, 300.0))) == pytest.approx(np.pi)


def test_the_vertex_of_a_parabola_is_found_and_a_line_has_none():
    for place in (-0.4, 0.0, 0.3):
        heights = 5 - 2 * (np.array([-1, 0, 1]) - place) ** 2
        assert vertex(*heights) == pytest.approx(place)
    assert vertex(1.0, 2.0, 3.0) == 0
    assert_allclose(vertex([0, 1], [1, 2], [0, 3]), 0)


def test_a_delay_of_whole_samples_moves_them():
    sample = np.random.default_rng(1).standard_normal(64)
    later = delay_response(np.fft.rfftfreq(64, 1 / 48_000), 5 / 48_000)
    assert_allclose(np.fft.irfft(np.fft.rfft(sample) * later), np.roll(sample, 5), atol=1e-12)
    assert delay_response([1.0, 2.0, 3.0], [0.1, 0.2]).shape == (2, 3)
    assert_allclose(delay_response(250.0, 0.001), -1j, atol=1e-12)  # a quarter of a period late
