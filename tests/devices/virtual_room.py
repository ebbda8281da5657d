"""JACK clients that play a room: one sums its speakers to microphone 1; microphone 2 hears speaker 7 alone.

Two more are devices with clocks of their own: what "virtual_speakers" plays comes out of "virtual_microphone" 60 ppm
slow, each speaker late by a number of samples and with a reflection.

Run by the tests as `python virtual_room.py OUTPUTS`; ends on SIGTERM.
"""

import signal
import sys
import threading

import jack
import numpy as np

client = jack.Client("virtual_room", no_start_server=True)
speakers = [client.inports.register(f"speaker_{k + 1:02d}", is_terminal=True) for k in range(int(sys.argv[1]))]
microphones = [client.outports.register(f"microphone_{k + 1}", is_terminal=True) for k in range(2)]


@client.set_process_callback
def process(_frames):
    microphones[0].get_array()[:] = np.sum([port.get_array() for port in speakers], axis=0, dtype="f4")
    microphones[1].get_array()[:] = -0.5 * speakers[6].get_array()


speakers_alone = jack.Client("virtual_speakers", no_start_server=True)
alone = [speakers_alone.inports.register(f"speaker_{k + 1:02d}", is_terminal=True) for k in range(3)]
microphone_alone = jack.Client("virtual_microphone", no_start_server=True)
heard_alone = microphone_alone.outports.register("microphone_1", is_terminal=True)
DELAYS, REFLECTION, DRIFT, LAG, TAPS = (100, 353, 640), (77, 0.4), 60e-6, 20_000, 32
air = np.zeros(2**17)  # what arrives at the microphone, by the speakers' clock, round and round
played_to, read_at = 0, 0.0


@speakers_alone.set_process_callback
def sound(frames):
    global played_to
    for port, delay in zip(alone, DELAYS, strict=True):
        block = port.get_array().astype(float)
        for late, gain in ((delay, 1.0), (delay + REFLECTION[0], REFLECTION[1])):
            air[(played_to + late + np.arange(frames)) % air.size] += gain * block
    # Half a round ahead nothing was written yet: what stands there is of the last round.
    air[(played_to + air.size // 2 + np.arange(frames)) % air.size] = 0.0
    played_to += frames


@microphone_alone.set_process_callback
def hear(frames):
    global read_at
    if read_at == 0.0 and played_to > LAG + TAPS:
        read_at = float(played_to - LAG)
    if not read_at:
        heard_alone.get_array()[:] = 0
        return
    # A microphone whose clock is slow takes fewer samples of the same second: it steps further for each.
    at = read_at + np.arange(frames) * (1 + DRIFT)
    whole = np.floor(at).astype(int)
    offset = np.arange(-TAPS // 2 + 1, TAPS // 2 + 1)
    near = np.sinc((at - whole)[:, None] - offset) * np.hanning(TAPS + 2)[1:-1]
    heard_alone.get_array()[:] = np.sum(near * air[(whole[:, None] + offset) % air.size], axis=1)
    read_at += frames * (1 + DRIFT)


stop = threading.Event()
signal.signal(signal.SIGTERM, lambda *_: stop.set())
with client, speakers_alone, microphone_alone:
    print("ready", flush=True)
    while not stop.wait(0.2):
        pass
