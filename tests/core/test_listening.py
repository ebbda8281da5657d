"""Programme heard through presets: rendering, loudness, blind trials, pressure by band."""

import numpy as np
import pytest
import scipy
from numpy.testing import assert_allclose

from dolce.core.filters import BandFilter
from dolce.core.listening import (
    MATERIAL,
    BlindTest,
    Programme,
    Rendering,
    guessing_probability,
    integrated_loudness,
    loudness_matched,
    paths_of,
    pressure_by_band,
    programme_of,
    retuned,
)
from dolce.core.processor import BassManagement, ChannelSettings, Crossover, Route
from dolce.core.processor.sound import processed
from dolce.core.response import ImpulseResponse
from dolce.core.tuning import Outputs
from dolce.errors import Conflict, InvalidValue

RATE = 48_000
LAYOUT = ("L", "R", "C", "Ls", "Rs")


def tone(frequency_hz: float, level_dbfs: float, *, seconds: float = 4.0, rate: int = RATE) -> np.ndarray:
    return 10 ** (level_dbfs / 20) * np.sin(2 * np.pi * frequency_hz * np.arange(round(seconds * rate)) / rate)


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_tone_of_997_hz_at_full_scale_in_one_channel_is_3_01_below_full_scale(rate):
    # ITU-R BS.1770-4, Annex 1: -3.01 LKFS; the standard's own tolerance for meters is 0.1.
    assert integrated_loudness(tone(997, 0.0, rate=rate), sample_rate_hz=rate) == pytest.approx(-3.01, abs=0.02)
    assert integrated_loudness(tone(997, -20.0, rate=rate), sample_rate_hz=rate) == pytest.approx(-23.01, abs=0.02)


def test_two_channels_alike_are_3_db_louder_than_one():
    first = tone(997, -20.0)
    assert integrated_loudness(np.array([first, first]), sample_rate_hz=RATE) == pytest.approx(-20.0, abs=0.02)


def test_the_weighting_is_that_of_the_tables_of_the_standard():
    # ITU-R BS.1770-4, tables 1 and 2, at 48 kHz (coefficients from memory).
    shelf = [1.53512485958697, -2.69169618940638, 1.19839281085285, 1.0, -1.69065929318241, 0.73248077421585]
    cut = [1.0, -2.0, 1.0, 1.0, -1.99004745483398, 0.99007225036621]
    for frequency in (40.0, 100.0, 1000.0, 3000.0, 10_000.0):
        _, at = scipy.signal.sosfreqz(np.array([shelf, cut]), worN=[frequency], fs=RATE)
        wanted = -0.691 + 10 * np.log10(0.5 * np.abs(at[0]) ** 2) - 20.0
        assert integrated_loudness(tone(frequency, -20.0), sample_rate_hz=RATE) == pytest.approx(wanted, abs=0.03)


def test_silence_in_between_does_not_count():
    # The relative gate of BS.1770-4: blocks 10 LU below the rest are left out; those that hold the ends of the pause
    # are not (0.17 dB). Without a gate the pause would cost 1.76 dB.
    sound = tone(997, -20.0)
    with_pause = np.concatenate([sound, np.zeros(4 * RATE), sound])
    assert integrated_loudness(with_pause, sample_rate_hz=RATE) == pytest.approx(
        integrated_loudness(sound, sample_rate_hz=RATE), abs=0.2
    )


def test_matched_sounds_are_equally_loud_and_none_was_turned_up():
    rng = np.random.default_rng(3)
    sounds = {
        "flat": 0.05 * rng.standard_normal((2, 3 * RATE)),
        "loud": 0.6 * rng.standard_normal((2, 3 * RATE)).cumsum(axis=1) / 200,
        "soft": 0.00005 * rng.standard_normal((2, 3 * RATE)),
    }  # below the absolute gate as it stands
    match = loudness_matched(sounds, sample_rate_hz=RATE)
    assert match.off_db < 0.1
    assert all(gain <= 0 for gain in match.gain_db.values())
    assert match.gain_db["soft"] == 0
    assert match.far
    assert max(float(np.abs(first).max()) for first in match.sample.values()) == pytest.approx(
        10 ** (-1 / 20), rel=1e-4
    )


def test_what_is_silent_is_named():
    with pytest.raises(InvalidValue, match="B: nothing is to be heard"):
        loudness_matched({"A": tone(997, -20.0), "B": np.zeros(RATE)}, sample_rate_hz=RATE)


def made_up_response(rng: np.random.Generator, *, later: int) -> ImpulseResponse:
    sample = rng.standard_normal(4000) * np.exp(-np.arange(4000) / 500)
    sample = np.concatenate([np.zeros(later), sample, np.zeros(2000)])
    return ImpulseResponse(sample=sample, sample_rate_hz=RATE, start_s=-0.01)


def test_a_rendered_passage_is_what_a_processor_and_the_room_make_of_it_one_after_the_other():
    rng = np.random.default_rng(8)
    responses = {"L": made_up_response(rng, later=500), "Sub1": made_up_response(rng, later=900)}
    corner = Crossover(frequency_hz=80.0)
    band = BandFilter(frequency_hz=900, gain_db=5, q=2)
    settings = {
        "L": ChannelSettings(trim_db=-3.0, delay_s=0.002, filters=(band,)),
        "Sub1": ChannelSettings(polarity="inverted", trim_db=2.0),
    }
    outputs = Outputs(settings=settings, bass=BassManagement(crossover=corner, subs=("Sub1",)))
    programme = Programme(
        name="noise",
        channels=("L",),
        sample_rate_hz=RATE,
        sample=np.concatenate([0.1 * rng.standard_normal(2 * RATE), np.zeros(RATE)])[None, :],
    )
    paths = paths_of(outputs, responses, programme.channels)
    heard = Rendering(programme).through(paths)
    # A second way: sample by sample through the processor's filters, then convolved with the responses.
    wanted = np.zeros(programme.sample.shape[1])
    for way in (Route(output="L", crossover=corner, side="high"), Route(output="Sub1", crossover=corner, side="low")):
        part = scipy.signal.sosfilt(corner.sections(way.side, sample_rate_hz=RATE), programme.sample[0])
        part = processed(part, settings[way.output], sample_rate_hz=RATE)
        wanted += scipy.signal.oaconvolve(part, responses[way.output].sample)[: wanted.size]
    # 32-bit floats are left between both: 1e-4 of the level.
    assert_allclose(heard, wanted, atol=2e-4 * np.abs(wanted).max())


def test_sets_of_paths_begin_at_the_same_place_so_that_switching_keeps_it():
    rng = np.random.default_rng(9)
    responses = {"L": made_up_response(rng, later=500)}
    programme = Programme(name="noise", channels=("L",), sample_rate_hz=RATE, sample=rng.standard_normal((1, 2 * RATE)))
    rendering = Rendering(programme)
    now = paths_of(Outputs(settings={}), responses, ("L",))
    later = paths_of(Outputs(settings={"L": ChannelSettings(delay_s=0.05)}), responses, ("L",))
    assert later.onset - now.onset == 2400
    assert_allclose(rendering.through(later, onset=now.onset), rendering.through(now, onset=now.onset), atol=1e-3)


def test_material_without_a_path_and_takes_at_two_rates_are_refused():
    rng = np.random.default_rng(1)
    response = made_up_response(rng, later=10)
    other = ImpulseResponse(sample=response.sample, sample_rate_hz=44_100, start_s=0.0)
    with pytest.raises(InvalidValue, match="takes at 44100 Hz and 48000 Hz"):
        paths_of(Outputs(settings={}), {"L": response, "R": other}, ("L",))
    assert paths_of(Outputs(settings={}), {"L": response}, ("C",)) is None
    paths = paths_of(Outputs(settings={}), {"L": response}, ("L",))
    centre = Programme(name="c", channels=("C",), sample_rate_hz=RATE, sample=np.ones((1, 3 * RATE)))
    with pytest.raises(InvalidValue, match="none of its channels was taken"):
        Rendering(centre).through(paths)


@pytest.mark.parametrize("material", MATERIAL)
def test_shipped_material_is_the_same_every_time_and_has_no_click_where_it_goes_round(material):
    made, again = (programme_of(material, LAYOUT, sample_rate_hz=RATE, rng=np.random.default_rng(5)) for _ in "ab")
    assert np.array_equal(made.sample, again.sample)
    assert made.duration_s == pytest.approx(16.0, abs=0.01)
    assert set(made.channels) <= set(LAYOUT)
    assert 0.05 < np.abs(made.sample).max() <= 0.26
    for row in made.sample:
        steps = np.abs(np.diff(row, append=row[:1]))
        assert steps[-1] <= steps[:-1].max()


def test_a_voice_comes_from_the_centre_where_there_is_one():
    assert programme_of("voice", LAYOUT, sample_rate_hz=RATE, rng=np.random.default_rng(5)).channels == ("C",)
    assert programme_of("voice", ("L", "R"), sample_rate_hz=RATE, rng=np.random.default_rng(5)).channels == ("L", "R")


def test_a_passage_with_its_end_faded_over_goes_round_without_a_step():
    ramp = np.linspace(-1, 1, 3 * RATE)[None, :]
    made = Programme(name="ramp", channels=("L",), sample=ramp, sample_rate_hz=RATE)
    assert abs(made.sample[0, -1] - made.sample[0, 0]) > 1.9
    smooth = made.without_seam().sample[0]
    assert np.abs(np.diff(smooth, append=smooth[:1])).max() < 0.01


def test_a_passage_at_another_rate_keeps_its_tones():
    made = Programme(name="tone", channels=("L",), sample=tone(1000, -20, rate=44_100)[None, :], sample_rate_hz=44_100)
    other = made.at_rate(RATE)
    assert other.duration_s == pytest.approx(4.0)
    assert_allclose(other.sample[0][4800:-4800], tone(1000, -20)[4800:-4800], atol=1e-4)


def test_ten_trials_are_guessed_as_often_as_the_binomial_distribution_says():
    # Against SciPy's survival function of the binomial distribution.
    for right in range(11):
        assert guessing_probability(right, 10) == pytest.approx(scipy.stats.binom.sf(right - 1, 10, 0.5), rel=1e-12)
    assert guessing_probability(0, 0) == 1.0


def test_a_blind_test_counts_what_was_right_and_takes_each_trial_once():
    test = BlindTest.drawn(("A", "B"), rng=np.random.default_rng(2))
    assert set(test.hidden) == {"A", "B"}
    for trial, was in enumerate(test.hidden, start=1):
        other = "A" if was == "B" else "B"
        test = test.answered(was if trial <= 9 else other, trial=trial)
        with pytest.raises(Conflict, match=f"trial {trial} is over"):
            test.answered("A", trial=trial)
    assert (test.right, test.over, test.heard) == (9, True, True)
    assert test.rng == pytest.approx(11 / 1024)
    with pytest.raises(InvalidValue, match="the same twice"):
        BlindTest.drawn(("A", "A"), rng=np.random.default_rng(2))


def test_eight_of_ten_may_have_been_guessed():
    # 56 of 1024: above the one in twenty that is usual.
    test = BlindTest(pair=("A", "B"), hidden=("A",) * 10, answers=("A",) * 8 + ("B",) * 2)
    assert not test.heard
    assert test.rng == pytest.approx(56 / 1024)


def test_a_steady_tone_stands_in_its_band_alone_and_is_as_high_as_its_mean():
    found = pressure_by_band(tone(1000, -20.0), sample_rate_hz=RATE)
    band = int(np.argmin(np.abs(found.frequency_hz - 1000)))
    assert found.mean_db[band] == pytest.approx(-20.0, abs=0.01)
    assert found.highest_db[band] == pytest.approx(-20.0, abs=0.05)
    assert np.delete(found.mean_db, band).max() < -80


@pytest.mark.parametrize(("length_s", "below_db"), [(0.2, -1.0), (0.05, -4.8)])
def test_a_burst_reads_lower_with_fast_as_the_standard_has_it(length_s, below_db):
    # IEC 61672-1:2013, table 4, fast: 200 ms -1.0 dB, 50 ms -4.8 dB. The band's own ringing is left: 0.3 dB.
    sound = tone(4000, -20.0, seconds=4.0)
    sound[round(length_s * RATE) :] = 0
    found = pressure_by_band(sound, sample_rate_hz=RATE)
    band = int(np.argmin(np.abs(found.frequency_hz - 4000)))
    assert found.highest_db[band] == pytest.approx(-20.0 + below_db, abs=0.3)
    assert found.mean_db[band] == pytest.approx(-20.0 + 10 * np.log10(length_s / 4.0), abs=0.3)


def test_a_curve_on_top_changes_levels_and_moves_nothing():
    sound = np.array([tone(100, -20.0) + tone(5000, -20.0)])
    at_hz = np.array([20.0, 200.0, 1000.0, 20_000.0])
    turned = retuned(sound, np.array([6.0, 6.0, 0.0, 0.0]), at_hz, sample_rate_hz=RATE)
    assert_allclose(turned[0], 10 ** (6 / 20) * tone(100, -20.0) + tone(5000, -20.0), atol=1e-5)
