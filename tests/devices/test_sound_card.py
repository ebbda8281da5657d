"""This computer's audio against a real server (JACK with its dummy driver) and a client that plays the room."""

import os
import signal as signals
import subprocess
import sys
import threading
import uuid
from pathlib import Path

import numpy as np
import pytest

from dolce.core.job import PassOptions
from dolce.core.response import ANALYSIS_GRID_HZ, Deconvolver, analyse_recording, level_on_grid
from dolce.core.rig import Ceiling, Fault
from dolce.core.signals import Sweep
from dolce.devices.interface import SoundStopped
from dolce.devices.sound_card import SoundCard, sound_cards
from dolce.errors import Conflict, DeviceError
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import barn

RATE, PERIOD, OUTPUTS = 48_000, 4096, 14
HOST = "JACK Audio Connection Kit"
QUIET = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}


class VirtualRoom:
    """The server and the client; each ends by its own process."""

    def __init__(self) -> None:
        # A busy machine may let the server give a client up while both begin: that is tried again, with a new server.
        for tries_left in (2, 1, 0):
            if self._begun():
                return
            self.close()
            assert tries_left, "the sound server took no client, three times"

    def _begun(self) -> bool:
        name = f"d{uuid.uuid4().hex[:8]}"  # a fresh server name for every run
        os.environ.update(JACK_DEFAULT_SERVER=name, JACK_NO_START_SERVER="1", JACK_NO_AUDIO_RESERVATION="1")
        # On a busy machine a client may be late: the server waits 10 s before it drops one.
        dummy = ["-d", "dummy", "-r", str(RATE), "-p", str(PERIOD), "-C", "1", "-P", "1"]
        self.server = subprocess.Popen(["jackd", "-n", name, "--no-realtime", "-S", "-t", "10000", *dummy], **QUIET)
        subprocess.run(["jack_wait", "-s", name, "-w", "-t", "20"], **QUIET)
        script = str(Path(__file__).with_name("virtual_room.py"))
        self.client = subprocess.Popen([sys.executable, script, str(OUTPUTS)], stdout=subprocess.PIPE, text=True)
        return self.client.stdout.readline().strip() == "ready"

    def close(self) -> None:
        for process in (self.client, self.server):
            process.send_signal(signals.SIGTERM)
            process.wait(10)
        self.client.stdout.close()


@pytest.fixture(scope="module")
def card():
    """The virtual device, open for a module."""
    import sounddevice as sd

    room = VirtualRoom()
    try:
        sound_cards(again=True)
        yield next(c for c in sound_cards() if c.name == "virtual_room")
    finally:
        sd._terminate()  # before the server goes: PortAudio would abort the process at its end
        room.close()
        sd._initialize()


def play(stimulus, *, output=1, microphone=1, rate=RATE, stopped=lambda: False):
    device = SoundCard(name="virtual_room", host=HOST, inputs=[microphone])
    (recording,) = device.play_and_record(
        {output: stimulus}, sample_rate_hz=rate, progress=lambda _: None, stopped=stopped
    )
    return recording


def test_device_is_listed_with_its_channels(card):
    assert (card.host, card.inputs, card.outputs, card.usual_rate_hz) == (HOST, 2, OUTPUTS, RATE)


def test_several_inputs_are_recorded_at_once_and_in_their_order(card):
    click = np.zeros(RATE // 2)
    click[100] = 0.5
    second, first = SoundCard(name="virtual_room", host=HOST, inputs=[2, 1]).play_and_record(
        {7: click}, sample_rate_hz=RATE, progress=lambda _: None, stopped=lambda: False
    )
    assert first.max() == pytest.approx(0.5)
    assert second.min() == pytest.approx(-0.25)  # input 2 hears output 7 at minus half
    assert np.argmax(first) == np.argmin(second)


def test_live_sound_passes_without_a_gap_and_falls_silent_on_stop(card):
    """A rising count is played and comes back whole: nothing is lost or doubled between blocks."""
    device = SoundCard(name="virtual_room", host=HOST, inputs=[1])
    played, heard = [], []

    def next_block(count):
        start = sum(part.size for part in played) + 1
        played.append(np.arange(start, start + count) / 2**20)
        return {3: played[-1]}

    with pytest.raises(SoundStopped):
        device.run_live(
            next_block, heard.append, sample_rate_hz=RATE, stopped=lambda: sum(b.shape[1] for b in heard) > 2 * RATE
        )
    came = np.concatenate(heard, axis=1)[0] * 2**20
    begun = np.flatnonzero(came)[0]
    counted = came[begun : begun + RATE]
    assert np.abs(counted - np.arange(1, RATE + 1)).max() < 0.5
    assert device.silent_after_s is not None


def test_sound_above_the_ceiling_is_not_begun(card):
    device = SoundCard(name="virtual_room", host=HOST, ceiling=Ceiling(peak_dbfs=-20))
    with pytest.raises(Conflict, match="above the ceiling"):
        device.play_and_record(
            {1: np.full(10, 0.2)}, sample_rate_hz=RATE, progress=lambda _: None, stopped=lambda: False
        )
    with pytest.raises(Conflict, match="above the ceiling"):
        device.run_live(
            lambda count: {1: np.full(count, 0.2)}, lambda _: None, sample_rate_hz=RATE, stopped=lambda: False
        )


def test_loop_is_flat_and_arrives_at_the_same_sample_every_time(card):
    sweep = Sweep(start_hz=10, stop_hz=22_000, duration_s=2.0, sample_rate_hz=RATE, level_dbfs=-12)
    stimulus = np.concatenate([sweep.samples(), np.zeros(RATE // 2)])
    deconvolver = Deconvolver(
        sweep.samples(), sample_rate_hz=RATE, recording_samples=stimulus.size, band_hz=(10, 22_000)
    )
    arrivals = []
    for output in (1, 7, OUTPUTS):
        capture = analyse_recording(play(stimulus, output=output), deconvolver=deconvolver)
        grid = ANALYSIS_GRID_HZ[(ANALYSIS_GRID_HZ > 25) & (ANALYSIS_GRID_HZ < 20_000)]
        assert np.abs(level_on_grid(capture.response, at_hz=grid, per_octave=None)).max() < 0.01
        assert capture.arrival.polarity == "normal"
        arrivals.append(capture.arrival.time_s * RATE)
    # The dummy driver's period is the latency; every run to a fraction of a sample.
    assert np.ptp(arrivals) < 0.1
    assert arrivals[0] == pytest.approx(PERIOD, abs=0.1)


def test_only_the_chosen_output_sounds_and_only_the_chosen_input_is_recorded(card):
    click = np.zeros(3 * PERIOD)
    click[100] = 0.5
    assert np.abs(play(click, output=3, microphone=2)).max() == 0  # input 2 hears output 7 alone
    heard = play(click, output=7, microphone=2)
    assert heard.min() == pytest.approx(-0.25)
    assert np.argmin(heard) == 100 + PERIOD


def test_stop_silences_the_outputs_before_the_stream_is_closed(card):
    device = SoundCard(name="virtual_room", host=HOST)
    pressed = threading.Event()
    timer = threading.Timer(0.5, pressed.set)
    timer.start()
    with pytest.raises(SoundStopped):
        device.play_and_record(
            {1: np.zeros(60 * RATE)}, sample_rate_hz=RATE, progress=lambda _: None, stopped=pressed.is_set
        )
    timer.join()
    # It came back long before the minute was over, and with silence; bench/rig_figures.py says how fast.
    assert device.silent_after_s is not None


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({"output": OUTPUTS + 1}, f"has {OUTPUTS} outputs, not {OUTPUTS + 1}"),
        ({"microphone": 3}, "has 2 inputs, not 3"),
        ({"rate": 44_100}, "does not run at 44100 Hz now"),
    ],
)
def test_what_the_device_cannot_do_is_said(card, settings, message):
    with pytest.raises(DeviceError, match=message):
        play(np.zeros(100), **settings)


def test_a_device_that_is_not_there_is_named_with_those_that_are(card):
    missing = SoundCard(name="gone", host=HOST)
    with pytest.raises(DeviceError, match="gone is not there") as caught:
        missing.play_and_record({1: np.zeros(10)}, sample_rate_hz=RATE, progress=lambda _: None, stopped=lambda: False)
    assert "virtual_room" in caught.value.remedy


def test_takes_and_lines_go_over_it_as_over_the_rehearsal_rig(card, services):
    job = services.jobs.create(JobDetails(name="Barn"), plan=barn())
    services.rigging.set_rig(job.id, hardware="sound card", card_name="virtual_room", card_host=HOST, sweep_seconds=1.0)
    services.rigging.set_faults(job.id, [Fault(kind="dead", channels=("L",))])  # of the rehearsal rig only
    services.lines.run(job.id, ["L", "C"])
    services.sound.wait()
    view = services.lines.view(job.id)
    assert view.last_pass.state == "done", view.last_pass.message
    lines = {line.channel: line for line in view.lines}
    assert lines["L"].reading.sounds
    assert lines["L"].reading.level_db == pytest.approx(0, abs=0.05)
    assert lines["L"].really == ""  # nobody but the person knows
    services.taking.repeat(job.id, "C", 1)
    services.sound.wait()
    take = services.taking.board(job.id).takes["C", 1]
    assert take.arrival_s == pytest.approx(PERIOD / RATE, abs=1e-5)
    assert np.abs(take.level_db[100:-40]).max() < 0.05


def test_two_devices_with_clocks_of_their_own_agree_with_one_clock(card, services):
    """Clocks 60 ppm apart and starts that nobody knows: arrivals between feeds within 20 microseconds."""
    job = services.jobs.create(JobDetails(name="Two clocks"), plan=barn())
    services.rigging.set_rig(
        job.id,
        hardware="sound card",
        card_name="virtual_speakers",
        card_host=HOST,
        recorder_name="virtual_microphone",
        recorder_host=HOST,
        sweep_seconds=1.0,
    )
    spot = services.jobs.get(job.id).spots[0].id
    wanted = [s.channel for s in services.jobs.get(job.id).speakers if s.output in (1, 2, 3)]
    services.taking.run(job.id, PassOptions(channels=tuple(wanted), spots=(spot,)))
    services.sound.wait()
    takes = services.taking.board(job.id).takes
    found = [takes[channel, spot] for channel in wanted]
    late = np.array([take.arrival_s - found[0].arrival_s for take in found]) * RATE
    assert late == pytest.approx(np.array([0, 253, 540]), abs=20e-6 * RATE)  # as the room delays them
    for take in found:
        (drift,) = [caution for caution in take.cautions if caution.kind == "clock differs"]
        assert drift.value == pytest.approx(-60, abs=0.5)
        assert take.arrival_known
    # The same curve as through one clock: a reflection of 0.4 after 77 samples.
    comb = 20 * np.log10(np.abs(1 + 0.4 * np.exp(-2j * np.pi * ANALYSIS_GRID_HZ * 77 / RATE)))
    inside = (ANALYSIS_GRID_HZ > 30) & (ANALYSIS_GRID_HZ < 2000)
    assert np.abs(found[1].level_db - comb)[inside].max() < 0.1


DIES = """
import os, signal, sys, threading, numpy as np
sys.path[:0] = [{folder!r}]
from test_sound_card import VirtualRoom, play
from dolce.devices.sound_card import sound_cards
from dolce.errors import Conflict, DeviceError
room = VirtualRoom()
sound_cards(again=True)
threading.Timer(0.8, lambda: room.server.send_signal(signal.SIGTERM)).start()
try:
    play(np.zeros(60 * 48_000))
except DeviceError as error:
    print("said:", error, flush=True)
room.client.terminate()
os._exit(0)                      # PortAudio would wait for its dead server
"""


def test_a_device_that_goes_in_mid_pass_ends_it_with_a_message(tmp_path):
    # In a process of its own: a PortAudio that has lost its server is good for nothing any more.
    out = tmp_path / "out.txt"
    with out.open("w") as file:
        process = subprocess.run(
            [sys.executable, "-c", DIES.format(folder=str(Path(__file__).parent))],
            stdout=file,
            stderr=subprocess.DEVNULL,
            stdin=subprocess.DEVNULL,
            timeout=60,
            check=False,
        )
    assert process.returncode == 0
    assert "virtual_room stopped in the middle" in out.read_text()
