import numpy as np
import pytest
from numpy.testing import assert_allclose

from dolce.core.geometry import Point, RoomSize, distance_m
from dolce.core.processor import ChannelSettings, Preset, ProcessorState
from dolce.devices.rehearsal import LATENCY_S, MODELS, ROOM_NOISE_DBFS, RehearsalRig

ROOM = RoomSize(length_m=5, width_m=4, height_m=2.5)
LEFT, RIGHT = Point(x_m=1.2, y_m=0.8, z_m=1.2), Point(x_m=2.8, y_m=0.8, z_m=1.2)
SEAT = Point(x_m=2, y_m=2.2, z_m=1.2)
RATE = 48_000


def rig(**changes):
    return RehearsalRig(**{"room": ROOM, "speakers": {1: ("L", LEFT), 2: ("R", RIGHT)}, "microphone": SEAT,
                           "microphone_gain_db": 0.0, "processor": ProcessorState(), "seed": "a", **changes})


def heard(device, stimulus, output=1):
    (recording,) = device.play_and_record(stimulus, output=output, sample_rate_hz=RATE, progress=lambda _: None,
                                          stopped=lambda: False)
    return recording


def click(at=100, samples=RATE // 2):
    stimulus = np.zeros(samples)
    stimulus[at] = 0.5
    return stimulus


def test_the_same_rig_gives_the_same_recording_and_another_seed_other_noise():
    first = heard(rig(), click())
    assert np.array_equal(first, heard(rig(), click()))
    assert not np.array_equal(first, heard(rig(seed="b"), click()))


def test_silence_records_the_room_noise_at_its_stated_level():
    noise = heard(rig(), np.zeros(2 * RATE))
    level = 20 * np.log10(np.sqrt(2 * np.mean(noise**2)))                   # AES17: a full-scale sine is 0 dBFS
    assert level == pytest.approx(ROOM_NOISE_DBFS, abs=0.1)


def test_gain_lifts_signal_and_noise_alike_and_clips_at_full_scale():
    quiet, lifted = (heard(rig(microphone_gain_db=g), click()) for g in (0, 6))
    # A 24-bit converter rounds to 6e-8.
    assert_allclose(lifted, quiet * 10 ** (6 / 20), atol=1e-6)
    clipped = heard(rig(microphone_gain_db=50), click())
    assert clipped.max() == pytest.approx(1, abs=2e-7)
    assert clipped.min() >= -1


def test_recordings_are_what_a_24_bit_converter_gives():
    steps = heard(rig(), click()) * 2**23
    assert_allclose(steps, np.round(steps), atol=1e-9)


@pytest.mark.parametrize(("output", "channel", "place"), [(1, "L", LEFT), (2, "R", RIGHT)])
def test_sound_arrives_after_latency_and_distance(output, channel, place):
    recording = heard(rig(), click(at=100), output)
    expected = LATENCY_S + MODELS[channel].latency_s + distance_m(place, SEAT) / 343.2
    assert np.argmax(np.abs(recording)) - 100 == pytest.approx(expected * RATE, abs=1)


def test_preset_delays_and_inverts_what_is_heard():
    preset = Preset(name="x", channels={"L": ChannelSettings(delay_s=0.002, polarity="inverted", trim_db=-6.0206)})
    plain = heard(rig(), click())
    changed = heard(rig(processor=ProcessorState(active="A", presets={"A": preset})), click())
    late = round(0.002 * RATE)
    # Both hold the same room noise, at -74 dBFS.
    assert_allclose(changed[late:], -0.5 * plain[:-late], atol=3e-3)


def test_progress_ends_at_one():
    told = []
    rig().play_and_record(click(), output=1, sample_rate_hz=RATE, progress=told.append, stopped=lambda: False)
    assert told[-1] == 1.0
