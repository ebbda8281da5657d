"""A JACK client that plays the room: sums its speakers to microphone 1; microphone 2 hears speaker 7 alone, late.

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


stop = threading.Event()
signal.signal(signal.SIGTERM, lambda *_: stop.set())
with client:
    print("ready", flush=True)
    while not stop.wait(0.2):
        pass
