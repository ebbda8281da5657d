import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.filters import (
    BandFilter,
    chain_level_db,
    convolution_filter,
    peaking_biquad,
    peaking_with_slopes_db,
    q_of_octaves,
    shelf_with_slopes_db,
)
from dolce.core.processor import ChannelSettings, Preset, ProcessorState, processed
from dolce.errors import InvalidValue

BANDS = (
    BandFilter(frequency_hz=41.2, gain_db=-7.2, q=4.3),
    BandFilter(frequency_hz=3000, gain_db=5, q=1.2),
    BandFilter(frequency_hz=15_000, gain_db=-4, q=2),
)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_closed_form_of_the_level_agrees_with_the_biquads_of_a_reference_library(rate):
    # scipy.signal.sosfreqz evaluates the Cookbook's coefficients; our level is its magnitude in closed form.
    at = np.geomspace(10, 20_000, 300)
    sos = np.array(
        [
            peaking_biquad(frequency_hz=b.frequency_hz, gain_db=b.gain_db, q=b.q, sample_rate_hz=rate).sos()
            for b in BANDS
        ]
    )
    reference = 20 * np.log10(np.abs(signal.sosfreqz(sos, worN=at, fs=rate)[1]))
    # Coefficients near z = 1 lose digits at 10 Hz; 1e-6 dB is what doubles leave.
    assert_allclose(chain_level_db(BANDS, at_hz=at, sample_rate_hz=rate), reference, atol=1e-6)


def test_cookbook_coefficients_match_an_independent_design():
    # scipy.signal.iirpeak is a resonator of unit gain with the same poles where the gain is infinite; the peaking
    # equaliser is 1 + (A^2 - 1) times a resonator of Q A. W3C Audio EQ Cookbook, rearranged.
    a2 = 10 ** (6 / 20)
    own = peaking_biquad(frequency_hz=1000, gain_db=6, q=2, sample_rate_hz=48_000)
    w, h = signal.freqz([own.b0, own.b1, own.b2], [1, own.a1, own.a2], worN=500)
    w0 = 2 * np.pi * 1000 / 48_000
    # iirpeak takes its bandwidth as w0 / Q through a tangent: choose the Q that gives the Cookbook's alpha / A.
    alpha = np.sin(w0) / 4 / 10 ** (6 / 40)
    quality = w0 / (2 * np.arctan(alpha / np.sin(w0) * np.sin(w0)))
    b, a = signal.iirpeak(1000, quality, fs=48_000)
    reference = 1 + (a2 - 1) * signal.freqz(b, a, worN=w)[1]
    assert_allclose(h, reference, atol=1e-9)


@pytest.mark.parametrize(("octaves", "q"), [(1 / 3, 4.318), (1, 1.414), (2, 0.667)])
def test_q_of_a_bandwidth(octaves, q):
    # Q = sqrt(2^N) / (2^N - 1); values as printed in handbooks of equalisers (common practice).
    assert q_of_octaves(octaves) == pytest.approx(q, abs=5e-4)
    assert BandFilter(frequency_hz=100, gain_db=1, q=q_of_octaves(octaves)).width_octaves == pytest.approx(octaves)


def test_convolution_filters_are_of_minimum_phase():
    # A magnitude has one minimum phase: its cepstrum folded onto positive times (Oppenheim and Schafer, "Discrete-Time
    # Signal Processing", 3rd ed., 13.5). The grid is generous, since the cepstrum wraps.
    size = 2**17
    level = chain_level_db(BANDS, at_hz=np.linspace(0, 24_000, size // 2 + 1), sample_rate_hz=48_000)
    cepstrum = np.fft.irfft(level * (np.log(10) / 20))
    cepstrum[1 : size // 2] *= 2
    cepstrum[size // 2 + 1 :] = 0
    reference = np.fft.irfft(np.exp(np.fft.rfft(cepstrum)))
    assert_allclose(convolution_filter(BANDS, sample_rate_hz=48_000)[:4000], reference[:4000], atol=1e-9)


@pytest.mark.parametrize("rate", [44_100, 48_000, 88_200, 96_000])
def test_convolution_filters_have_the_level_of_the_bands_and_last_one_second(rate):
    impulse = convolution_filter(BANDS, sample_rate_hz=rate)
    assert impulse.size == rate
    at = np.geomspace(20, 20_000, 200)
    level = 20 * np.log10(np.abs(signal.freqz(impulse, worN=at, fs=rate)[1]))
    # Cut off after a second: a band of Q 4.3 at 41 Hz has then fallen by over 200 dB.
    assert_allclose(level, chain_level_db(BANDS, at_hz=at, sample_rate_hz=rate), atol=1e-3)


def test_processor_trims_delays_and_inverts():
    impulse = np.zeros(4096)
    impulse[100] = 1
    out = processed(impulse, ChannelSettings(trim_db=-6.0206, delay_s=0.01, polarity="inverted"), sample_rate_hz=48_000)
    assert_allclose(out[580], -0.5, atol=1e-5)
    # Half a sample: the phase slope of the shifted impulse is that of the delay, closed form.
    half = processed(impulse, ChannelSettings(delay_s=10.5 / 48_000), sample_rate_hz=48_000)
    slope = np.diff(np.unwrap(np.angle(np.fft.rfft(half))))[10:500].mean() / (2 * np.pi) * 4096
    assert slope == pytest.approx(-110.5, abs=1e-3)


def test_presets_turn_down_all_channels_alike_and_bypass_nothing():
    state = ProcessorState(
        active="A", presets={"A": Preset(name="x", cut_db=2.5, channels={"L": ChannelSettings(trim_db=-1)})}
    )
    assert state.settings_for("L").trim_db == -3.5
    assert state.settings_for("R").trim_db == -2.5
    assert ProcessorState(presets=state.presets).settings_for("L") == ChannelSettings()
    with pytest.raises(InvalidValue, match="preset B is empty"):
        ProcessorState(active="B", presets=state.presets)


@pytest.mark.parametrize("kind", ["peaking", "low shelf", "high shelf"])
def test_slopes_of_levels_are_those_of_small_differences(kind):
    # Central differences of the closed form: an error of the step squared.
    at = np.geomspace(15, 18_000, 120)
    settings = {"frequency_hz": [41.0, 900.0, 7000.0], "gain_db": [-6.0, 4.5, 2.0], "q": [0.7, 2.0, 0.9]}

    def found(rows):
        columns = [np.array(rows[name]) for name in ("frequency_hz", "gain_db", "q")]
        if kind == "peaking":
            return peaking_with_slopes_db(*columns, at_hz=at, sample_rate_hz=48_000)
        return shelf_with_slopes_db(*columns, np.full(3, kind == "low shelf"), at_hz=at, sample_rate_hz=48_000)

    _, slopes = found(settings)
    for place, (name, step) in enumerate((("frequency_hz", 1e-4), ("gain_db", 1e-4), ("q", 1e-4))):
        sides = []
        for sign in (1, -1):
            moved = {key: np.array(values, dtype=float) for key, values in settings.items()}
            # Frequency and Q count by their logarithm.
            moved[name] = moved[name] + sign * step if name == "gain_db" else moved[name] * np.exp(sign * step)
            sides.append(found(moved)[0])
        assert_allclose(slopes[:, place], (sides[0] - sides[1]) / (2 * step), atol=2e-4)


@pytest.mark.parametrize(("kind", "at_hz"), [("low shelf", (0.01, 23_999.9)), ("high shelf", (23_999.9, 0.01))])
def test_a_shelf_has_its_gain_beyond_the_corner_half_of_it_there_and_none_on_the_other_side(kind, at_hz):
    # W3C Audio EQ Cookbook: the corner is where a shelf has half of its gain in dB, whatever its Q.
    for gain_db, q in ((6.0, 0.7), (-9.0, 0.5), (3.0, 1.1)):
        shelf = BandFilter(kind=kind, frequency_hz=400.0, gain_db=gain_db, q=q)
        level = chain_level_db([shelf], at_hz=np.array([at_hz[0], 400.0, at_hz[1]]), sample_rate_hz=48_000)
        assert_allclose(level, [gain_db, gain_db / 2, 0.0], atol=1e-4)
