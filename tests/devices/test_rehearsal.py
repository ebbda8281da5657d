from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose

from dolce.core.geometry import Point, RoomSize, distance_m
from dolce.core.processor import BassManagement, ChannelSettings, Crossover, Preset, ProcessorState
from dolce.core.rig import Ceiling, Fault
from dolce.core.simulation import DeskTop
from dolce.devices.interface import SoundStopped
from dolce.devices.rehearsal import LATENCY_S, ROOM_NOISE_DBFS, PlacedSpeaker, RehearsalRig, model_of
from dolce.errors import Conflict, InvalidValue

ROOM = RoomSize(length_m=5, width_m=4, height_m=2.5)
LEFT, RIGHT = Point(x_m=1.2, y_m=0.8, z_m=1.2), Point(x_m=2.8, y_m=0.8, z_m=1.2)
SEAT = Point(x_m=2, y_m=2.2, z_m=1.2)
RATE = 48_000


def placed(channel, place):
    way = SEAT.as_array() - place.as_array()
    return PlacedSpeaker(channel=channel, place=place, axis=tuple(way / np.linalg.norm(way)))


def rig(**changes):
    return RehearsalRig(
        **{
            "room": ROOM,
            "speakers": {1: placed("L", LEFT), 2: placed("R", RIGHT)},
            "microphone": SEAT,
            "microphone_gain_db": 0.0,
            "processor": ProcessorState(),
            "seed": "a",
            **changes,
        }
    )


def heard(device, stimulus, output=1):
    (recording,) = device.play_and_record(
        {output: stimulus}, sample_rate_hz=RATE, progress=lambda _: None, stopped=lambda: False
    )
    return recording


def click(at=100, samples=RATE // 2):
    stimulus = np.zeros(samples)
    stimulus[at] = 0.5
    return stimulus


def test_the_same_rig_gives_the_same_recording_and_another_seed_other_noise():
    first = heard(rig(), click())
    assert np.array_equal(first, heard(rig(), click()))
    assert not np.array_equal(first, heard(rig(seed="b"), click()))


def test_silence_records_a_room_noise_of_its_stated_level_that_is_never_quite_steady():
    takes = [heard(rig(seed=f"take {k}"), np.zeros(2 * RATE)) for k in range(40)]
    levels = [20 * np.log10(np.sqrt(2 * np.mean(noise**2))) for noise in takes]  # AES17: full-scale sine 0 dBFS
    assert np.mean(levels) == pytest.approx(ROOM_NOISE_DBFS, abs=0.4)
    assert 0.4 < np.std(levels) < 1.5
    within = [20 * np.log10(np.std(part)) for part in np.split(takes[0], 8)]
    assert 0.3 < np.std(within) < 3


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
    expected = LATENCY_S + model_of(channel).latency_s + distance_m(place, SEAT) / 343.2
    assert np.argmax(np.abs(recording)) - 100 == pytest.approx(expected * RATE, abs=1)


def test_preset_delays_and_inverts_what_is_heard():
    preset = Preset(name="x", channels={"L": ChannelSettings(delay_s=0.002, polarity="inverted", trim_db=-6.0206)})
    plain = heard(rig(), click())
    changed = heard(rig(processor=ProcessorState(active="A", presets={"A": preset})), click())
    late = round(0.002 * RATE)
    # Both hold the same room noise.
    assert_allclose(changed[late:], -0.5 * plain[:-late], atol=3e-3)


def test_progress_ends_at_one():
    on_progress = []
    rig().play_and_record({1: click()}, sample_rate_hz=RATE, progress=on_progress.append, stopped=lambda: False)
    assert on_progress[-1] == 1.0


def heard_on_all(device, stimulus, output=1):
    return device.play_and_record(
        {output: stimulus}, sample_rate_hz=RATE, progress=lambda _: None, stopped=lambda: False
    )


def test_several_microphones_hear_from_their_own_places_and_a_loop_hears_the_cable():
    far = Point(x_m=2, y_m=4.0, z_m=1.2)
    first, second, cable = heard_on_all(rig(more_microphones=(far,), loop=True), click())
    late = (distance_m(LEFT, far) - distance_m(LEFT, SEAT)) / 343.2 * RATE
    assert np.argmax(np.abs(second)) - np.argmax(np.abs(first)) == pytest.approx(late, abs=2)
    # The cable has the interface's latency and no room.
    assert np.argmax(np.abs(cable)) - 100 == pytest.approx(LATENCY_S * RATE, abs=1)
    assert np.abs(cable[1500:]).max() < 3e-4  # what a high-pass at 1.5 Hz leaves
    # A loop needs no speaker on its output.
    assert np.abs(heard_on_all(rig(loop=True), click(), output=9)[1]).max() > 0.3


def test_a_desk_sends_the_sound_once_more_after_its_detour():
    desk = DeskTop(x_m=(0.4, 2.8), y_m=(0.8, 2.2), top_m=0.75)
    plain, reflected = (heard(rig(desks=desks), click(samples=RATE)) for desks in ((), (desk,)))
    woofer = replace(LEFT, z_m=LEFT.z_m + model_of("L").drivers[0].above_m)
    mirrored = replace(SEAT, z_m=2 * 0.75 - SEAT.z_m)
    more = np.argmax(np.abs(reflected - plain)) - np.argmax(np.abs(plain))
    assert more / RATE == pytest.approx((distance_m(woofer, mirrored) - distance_m(LEFT, SEAT)) / 343.2, abs=60e-6)
    missed = heard(rig(desks=(DeskTop(x_m=(0.4, 2.8), y_m=(0.8, 1.0), top_m=0.75),)), click(samples=RATE))
    assert_allclose(missed, plain, atol=3e-4)


def test_a_hand_puts_the_microphone_up_to_two_centimetres_off_alike_for_all_feeds():
    devices = [rig(placing=f"round {k}") for k in range(30)]
    off = [distance_m(device.microphones[0], SEAT) for device in devices]
    assert max(off) <= 0.02
    assert np.mean(off) == pytest.approx(0.015, abs=0.003)  # three quarters: evenly over a ball
    assert rig(placing="x").microphones == rig(placing="x", seed="b").microphones
    assert rig().microphones == (SEAT,)


@pytest.mark.parametrize(
    ("changes", "message"),
    [
        (
            {"speakers": {1: placed("L", LEFT), 2: placed("R", replace(LEFT, x_m=LEFT.x_m + 0.1))}},
            "L and R stand 10 cm",
        ),
        ({"microphone": replace(LEFT, y_m=LEFT.y_m + 0.05)}, "5 cm from the middle of L, inside its box"),
    ],
)
def test_what_could_not_stand_so_is_refused_with_what_to_do(changes, message):
    with pytest.raises(InvalidValue, match=message) as refused:
        rig(**changes)
    assert "on the Room page" in str(refused.value)


def test_processor_mutes_dims_and_sends_bass_to_the_subs():
    sub = Point(x_m=0.5, y_m=0.5, z_m=0.3)
    speakers = {1: placed("L", LEFT), 2: placed("R", RIGHT), 3: placed("Sub1", sub)}
    noise = 10 ** (ROOM_NOISE_DBFS / 20)
    assert np.abs(heard(rig(processor=ProcessorState(muted=("L",))), click())).max() < 5 * noise
    plain, dimmed = (heard(rig(processor=ProcessorState(dimmed=on)), click()) for on in (False, True))
    assert np.abs(dimmed).max() / np.abs(plain).max() == pytest.approx(0.1, rel=0.05)
    bass = BassManagement(crossover=Crossover(frequency_hz=80), subs=("Sub1",))
    state = ProcessorState(active="A", presets={"A": Preset(name="x", bass=bass)})
    tone = 0.05 * np.sin(2 * np.pi * 40 * np.arange(RATE) / RATE)
    alone, managed = (heard(rig(speakers=speakers, processor=p), tone) for p in (ProcessorState(), state))
    direct = heard(rig(speakers=speakers), tone, output=3)
    rms = [np.sqrt(np.mean(x[RATE // 2 :] ** 2)) for x in (alone, managed, direct)]
    # The sub plays it now: as when it is fed itself (the crossover takes 1.1 dB at half its frequency).
    assert 20 * np.log10(rms[1] / rms[2]) == pytest.approx(-1, abs=1.5)
    assert rms[0] != pytest.approx(rms[1], rel=0.1)


def test_knobs_and_the_way_the_microphone_points_change_what_is_heard():
    louder = heard(rig(knobs_db={"L": 6.0206, "volume": -12.0412}), click())
    assert np.abs(louder).max() / np.abs(heard(rig(), click())).max() == pytest.approx(0.5, rel=0.02)
    front, side = (
        np.abs(np.fft.rfft(heard(rig(pointing=p), click(samples=RATE))))[9000:16_000] for p in ("speakers", "ceiling")
    )
    assert 20 * np.log10(np.median(side / front)) == pytest.approx(-1.8, abs=0.3)


class Blocks:
    """Plays a stimulus as live sound and gathers what is heard."""

    def __init__(self, stimulus, output=1):
        self.stimulus, self.output, self.at, self.heard = stimulus, output, 0, []

    def next_block(self, count):
        part = self.stimulus[self.at : self.at + count]
        self.at += count
        return {self.output: np.pad(part, (0, count - part.size))}

    def run(self, device):
        with pytest.raises(SoundStopped):
            device.run_live(
                self.next_block, self.heard.append, sample_rate_hz=RATE, stopped=lambda: self.at >= self.stimulus.size
            )
        return np.concatenate(self.heard, axis=1)


def test_live_sound_is_the_same_room_as_a_recording():
    stimulus = np.random.default_rng(2).standard_normal(2 * RATE) * 0.02
    live = Blocks(stimulus).run(rig())[0]
    once = heard(rig(), stimulus)
    difference = live - once[: live.size]
    # Each has its own room noise.
    assert 20 * np.log10(np.std(difference) * np.sqrt(2)) == pytest.approx(ROOM_NOISE_DBFS + 3, abs=1)


def test_live_sound_ends_at_the_ceiling_and_at_feedback():
    sound = 0.2 * np.sin(2 * np.pi * 300 * np.arange(2 * RATE) / RATE)
    with pytest.raises(Conflict, match="above the ceiling of -20 dBFS"):
        Blocks(sound).run(rig(ceiling=Ceiling(peak_dbfs=-20)))
    with pytest.raises(Conflict, match="at the microphone, above the ceiling"):
        Blocks(sound).run(rig(ceiling=Ceiling(spl_db=80, full_scale_spl_db=120)))
    with pytest.raises(Conflict, match="feedback"):
        Blocks(np.full(4 * RATE, 1e-4)).run(rig(faults=(Fault(kind="feedback"),)))


def test_a_knob_turned_while_it_plays_is_heard():
    device = rig()
    player = Blocks(0.05 * np.sin(2 * np.pi * 1000 * np.arange(2 * RATE) / RATE))
    hear, gathered = player.heard.append, []

    def heard_block(block):
        gathered.append(np.std(block))
        hear(block)
        if len(gathered) == 10:
            device.becomes(knobs_db={"L": -20.0}, processor=ProcessorState())

    with pytest.raises(SoundStopped):
        device.run_live(player.next_block, heard_block, sample_rate_hz=RATE, stopped=lambda: player.at >= 2 * RATE)
    assert gathered[-1] / gathered[8] == pytest.approx(0.1, rel=0.1)


def test_several_outputs_at_once_are_heard_as_their_sum():
    stimulus = 0.02 * np.random.default_rng(3).standard_normal(RATE)

    class Both(Blocks):
        def next_block(self, count):
            return {
                output: samples
                for block in (super().next_block(count),)
                for samples in block.values()
                for output in (1, 2)
            }

    both = Both(stimulus).run(rig())[0]
    apart = sum(heard(rig(), stimulus, output=output) for output in (1, 2))
    difference = both - apart[: both.size]
    # Room noise of three recordings is left.
    assert 20 * np.log10(np.std(difference) * np.sqrt(2)) == pytest.approx(ROOM_NOISE_DBFS + 4.8, abs=1)
