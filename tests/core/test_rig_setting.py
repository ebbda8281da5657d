"""Ceiling, ramp, reference level, subs, microphones and the loop, each against figures from outside or by hand."""

import numpy as np
import pytest
from numpy.testing import assert_allclose
from scipy import signal

from dolce.core.response import ANALYSIS_GRID_HZ, Deconvolver, MicrophoneCurve, interface_loop, moving_average_level_db
from dolce.core.rig import (
    Ceiling,
    CeilingWatch,
    Microphone,
    MicrophoneInUse,
    SubMatch,
    band_share_db,
    differences,
    full_scale_by_sensitivity_db,
    goal_db,
    implausible_full_scale,
    microphone_findings,
    ramp_step,
    reference_source,
    slate_missing,
    sub_changes,
    subs_agree,
    suggested_level_db,
)
from dolce.core.rig.slate import SLATE
from dolce.core.signals import Sweep, stated_levels
from dolce.errors import Conflict, InvalidValue

RATE = 48_000
FLAT = MicrophoneCurve(frequency_hz=[20.0, 20_000.0], level_db=[0.0, 0.0], phase_deg=[0.0, 0.0])
RISING = MicrophoneCurve(frequency_hz=[20.0, 20_000.0], level_db=[0.0, 3.0], phase_deg=[0.0, 0.0])


def test_sound_above_the_ceiling_is_not_begun():
    ceiling = Ceiling(peak_dbfs=-12)
    ceiling.allows(np.array([0.25, -0.25]))  # 0.25 is -12.04 dBFS
    with pytest.raises(Conflict, match="above the ceiling of -12 dBFS"):
        ceiling.allows(np.array([0.26]))


def test_sound_pressure_above_the_ceiling_ends_it_within_a_tenth_of_a_second():
    watch = CeilingWatch(Ceiling(spl_db=85.0, full_scale_spl_db=114.0), sample_rate_hz=RATE)
    loud = 0.1 * np.sin(2 * np.pi * 500 * np.arange(RATE) / RATE)  # 94 dB SPL
    parts = iter(np.split(loud, 100))
    with pytest.raises(Conflict, match="above the ceiling of 85 dB"):
        all(watch.hear(part) is None for part in parts)
    assert len(list(parts)) > 90  # ended within 0.1 s of the second
    calm = CeilingWatch(Ceiling(spl_db=95.0, full_scale_spl_db=114.0), sample_rate_hz=RATE)
    calm.hear(loud)


def test_microphone_that_stays_at_the_end_of_its_range_ends_live_sound_only():
    clipping = np.ones(RATE)
    CeilingWatch(Ceiling(), sample_rate_hz=RATE).hear(clipping)
    watch = CeilingWatch(Ceiling(), sample_rate_hz=RATE)
    with pytest.raises(Conflict, match="feedback"):
        all(watch.hear(part, live=True) is None for part in np.split(clipping, 10))


def climb(*, gain_db, noise_dbfs=-74.0, ceiling=-6.0):
    """The ramp on a system that adds a gain to what is played."""
    level, steps = -60.0, 0
    while True:
        heard = level + gain_db
        step = ramp_step(
            level,
            heard_dbfs=heard,
            peak_dbfs=heard + 10,
            noise_dbfs=noise_dbfs,
            peak_above_rms_db=10.2,
            ceiling_peak_dbfs=ceiling,
        )
        steps += 1
        if step.ended or steps > 100:
            return step, steps
        level = step.level_dbfs


def test_ramp_ends_where_it_is_good_and_never_above_the_ceiling_or_into_clipping():
    good, steps = climb(gain_db=-5)
    assert (good.word, good.level_dbfs, steps) == ("good", -29.0, 32)  # -29 - 5 = -34, 40 dB above -74
    low, _ = climb(gain_db=-40, ceiling=-20)
    assert (low.word, low.level_dbfs) == ("ceiling", -31.0)  # -31 + 10.2 is under -20, -30 is not
    near, _ = climb(gain_db=25, noise_dbfs=-40)
    assert near.word == "clipping"
    assert near.to_clipping_db >= 6
    soft, _ = climb(gain_db=-60, noise_dbfs=-60, ceiling=0)
    assert (soft.word, soft.level_dbfs) == ("loudest", -12.0)


def test_effects_channel_comes_to_about_4_db_on_a_broadband_meter():
    # Common practice: +10 dB in band shows as about +4 dB with C; by the formulas 3.6 dB for 20-120 Hz.
    assert band_share_db(20, 120) + 10 == pytest.approx(4, abs=0.6)
    # By hand: log(120/20) / log(1000) = 25.9 % of the power, less what C takes off at the bottom.
    assert band_share_db(20, 120) == pytest.approx(10 * np.log10(0.2594), abs=0.8)


@pytest.mark.parametrize(("volume", "level"), [(46, 79), (112, 82), (400, 85)])
def test_level_that_suits_the_room(volume, level):
    assert suggested_level_db(volume) == level


def test_subs_play_the_part_of_the_noise_in_their_band_and_share_what_they_play_together():
    rms, _ = stated_levels(reference_source(is_sub=True), sample_rate_hz=RATE)
    assert rms == pytest.approx(-20 + 10 * np.log10(np.log(80 / 30) / np.log(1000)), abs=0.01)
    first, two = (goal_db(is_sub=True, level_db=85, subs=n) for n in (1, 2))
    assert first - two == pytest.approx(6.02, abs=0.01)
    assert goal_db(is_sub=True, level_db=85, plays_effects=True) - first == pytest.approx(10)
    assert goal_db(is_sub=False, level_db=85, subs=2) == 85


def test_subs_all_go_down_to_the_softest_in_steps():
    subs = ("Sub1", "Sub2", "Sub3")
    readings = {"Sub1": 82.03, "Sub2": 80.50, "Sub3": 80.58}
    found = {r.channel: r.change_db for r in sub_changes(readings, subs, SubMatch())}
    assert found == {"Sub1": pytest.approx(-1.5), "Sub2": 0.0, "Sub3": 0.0}
    assert not subs_agree(readings, subs, SubMatch())
    assert subs_agree({**readings, "Sub1": 80.53}, subs, SubMatch())
    assert not subs_agree({"Sub1": 80.5}, subs, SubMatch())
    coarse = {r.channel: r.change_db for r in sub_changes(readings, subs, SubMatch(step_db=0.5))}
    assert coarse == {"Sub1": pytest.approx(-1.5), "Sub2": 0.0, "Sub3": 0.0}


@pytest.mark.parametrize(("tone", "tuning", "warned"), [(50, 30, False), (35, 30, True), (35, None, False)])
def test_tone_near_or_below_the_ports_tuning_is_warned_about(tone, tuning, warned):
    assert SubMatch(sound="tone", tone_hz=tone, tuning_hz=tuning).below_tuning is warned
    assert not SubMatch(sound="noise", tone_hz=tone, tuning_hz=tuning).below_tuning


def test_the_curve_that_fits_the_pointing_is_applied_and_a_missing_one_is_a_finding():
    both = MicrophoneInUse(microphone=Microphone(name="a", curves={0: FLAT, 90: RISING}))
    assert both.curve("speakers") == (FLAT, 0)
    assert both.curve("ceiling") == (RISING, 90)
    front = MicrophoneInUse(microphone=Microphone(name="b", curves={0: FLAT}), input=2)
    assert front.curve("ceiling") == (FLAT, 0)
    kinds = [(f.kind, f.microphone) for f in microphone_findings([both, front], "ceiling")]
    assert kinds == [("wrong angle", "b"), ("not compared", "b")]
    assert [f.kind for f in microphone_findings([], "")] == ["none"]
    bare = MicrophoneInUse(microphone=Microphone(name="c"))
    assert [f.kind for f in microphone_findings([bare], "")] == ["no curve", "not asked"]
    twice = MicrophoneInUse(microphone=Microphone(name="b", curves={0: FLAT}))
    assert "one input twice" in [f.kind for f in microphone_findings([both, twice], "speakers")]


def test_difference_of_two_microphones_makes_them_read_alike():
    level = np.sin(np.log(ANALYSIS_GRID_HZ) * 3) * 4
    other = level + 1.2 + 2.0 * np.clip(np.log2(ANALYSIS_GRID_HZ / 2000) / 3, 0, 1)
    none, found = differences(np.array([level, other]))
    assert none is None
    used = MicrophoneInUse(microphone=Microphone(name="b", curves={0: RISING}), difference=found)
    at = np.array([100.0, 1000.0, 10_000.0])
    taken_out = 20 * np.log10(np.abs(used.taken_out("speakers").on(at)))
    expected = 20 * np.log10(np.abs(RISING.on(at))) + 1.2 + 2.0 * np.clip(np.log2(at / 2000) / 3, 0, 1)
    assert_allclose(taken_out, expected, atol=0.15)


def electronics(recording):
    """A known interface: 5 ms late, 3 dB down, first-order high-pass at 10 Hz."""
    b, a = signal.butter(1, 10, "high", fs=RATE)
    return 10 ** (-3 / 20) * signal.lfilter(b, a, np.concatenate([np.zeros(240), recording]))[: recording.size], (b, a)


def test_loop_gives_latency_gain_and_response_of_a_known_interface():
    sweep = Sweep(start_hz=5, stop_hz=22_000, duration_s=4, sample_rate_hz=RATE, level_dbfs=-12)
    played = np.concatenate([sweep.samples(), np.zeros(RATE)])
    heard, (b, a) = electronics(played)
    deconvolver = Deconvolver(sweep.samples(), sample_rate_hz=RATE, recording_samples=heard.size, band_hz=(5, 22_000))
    loop = interface_loop(heard, deconvolver=deconvolver, device="x")
    assert loop.latency_s == pytest.approx(0.005, abs=0.5 / RATE)
    assert loop.gain_db == pytest.approx(-3, abs=0.02)
    _, known = signal.freqz(b, a, worN=[20, 50, 200, 10_000], fs=RATE)  # SciPy as the reference
    found = loop.response.on(np.array([20.0, 50.0, 200.0, 10_000.0]))
    assert_allclose(20 * np.log10(np.abs(found)), 20 * np.log10(np.abs(known)), atol=0.1)
    assert_allclose(np.degrees(np.angle(found))[:3], np.degrees(np.angle(known))[:3], atol=2)


def test_loop_without_a_cable_or_with_a_microphone_is_refused():
    sweep = Sweep(duration_s=1, sample_rate_hz=RATE, level_dbfs=-12)
    rng = np.random.default_rng(1)
    deconvolver = Deconvolver(sweep.samples(), sample_rate_hz=RATE, recording_samples=2 * RATE, band_hz=(10, 22_000))
    with pytest.raises(InvalidValue, match="nothing of the sweep came back"):
        interface_loop(np.zeros(2 * RATE), deconvolver=deconvolver, device="x")
    reverb = rng.standard_normal(RATE // 3) * np.exp(-np.arange(RATE // 3) / 4000)
    reverb[0] = 3
    room = signal.fftconvolve(sweep.samples(), reverb)[: 2 * RATE] * 0.05
    room = np.pad(room, (0, 2 * RATE - room.size)) + 1e-5 * rng.standard_normal(2 * RATE)
    with pytest.raises(InvalidValue, match="microphone in a room"):
        interface_loop(room, deconvolver=deconvolver, device="x")


def test_moving_average_gives_the_response_between_what_is_played_and_heard():
    lines = np.linspace(0, RATE / 2, 32_769)
    played = 1 / np.maximum(lines, 1)
    known = 6 / (1 + (lines / 1000) ** 2) - 2  # dB
    curve = MicrophoneCurve(frequency_hz=[20.0, 20_000.0], level_db=[1.0, 1.0], phase_deg=[0.0, 0.0])
    found = moving_average_level_db(
        played * 10 ** ((known + 1 + 4) / 10), played, sample_rate_hz=RATE, microphone=curve, gain_db=4
    )
    inside = (ANALYSIS_GRID_HZ > 40) & (ANALYSIS_GRID_HZ < 18_000)
    assert_allclose(found[inside], np.interp(ANALYSIS_GRID_HZ, lines, known)[inside], atol=0.1)


def test_one_pascal_is_94_db_and_a_sensitivity_gives_the_level_of_full_scale():
    # 1 Pa against 20 uPa is 93.98 dB (IEC 61672-1, 3.1). 10 mV are 20 lg (0.010 / 0.7746) = -37.78 dBu.
    at_one_pascal = full_scale_by_sensitivity_db(10.0, full_scale_dbu=20 * np.log10(0.010 / 0.77460))
    assert at_one_pascal == pytest.approx(93.98, abs=0.01)
    assert full_scale_by_sensitivity_db(20.0, full_scale_dbu=0) == pytest.approx(
        full_scale_by_sensitivity_db(10.0, full_scale_dbu=0) - 6.02, abs=0.01
    )


def test_calibrator_that_is_off_by_20_db_is_doubted():
    quiet = np.full(27, -88.0)  # thirds; A-weighted about -76 dBFS
    assert implausible_full_scale(104.0, third_octave_dbfs=quiet, before_spl_db=None) is None
    kind, level = implausible_full_scale(80.0, third_octave_dbfs=quiet, before_spl_db=None)
    assert kind == "noise"
    assert level < 8
    assert implausible_full_scale(100.0, third_octave_dbfs=None, before_spl_db=120.0) == ("before", -20.0)
    assert implausible_full_scale(119.0, third_octave_dbfs=None, before_spl_db=120.0) is None


def test_slate_says_what_is_not_ticked_yet():
    assert slate_missing(()) == tuple(SLATE)
    assert "equaliser" not in slate_missing(("equaliser",))
