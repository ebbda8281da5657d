"""The processor on the network: how fast it is loaded, and what it plays after it was killed at any moment.

`.venv/bin/python bench/network_figures.py [--short]`.
"""

import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from promises import SHORT, ended, line

from dolce.core.filters import BandFilter
from dolce.core.processor import ChannelSettings, Preset, ProcessorInUse
from dolce.devices.network.client import NETWORK, NetworkProcessor, found_at
from dolce.devices.network.wire import digest
from dolce.errors import DeviceError, DolceError

KILLS = 2 if SHORT else 100
OUTPUTS = tuple(f"O{k + 1}" for k in range(14))
PORT = 5093


def preset(name: str, gain_db: float) -> Preset:
    """14 outputs of 16 bands, all with one gain: a mixed one would show."""
    bands = tuple(BandFilter(frequency_hz=25.0 * 1.3**k, gain_db=gain_db, q=4.0) for k in range(16))
    return Preset(name=name, channels=dict.fromkeys(OUTPUTS, ChannelSettings(trim_db=gain_db, filters=bands)))


class Process:
    """A stand-in in a process of its own, with its memory in a file."""

    def __init__(self, file: Path) -> None:
        self.run = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "dolce",
                "processor",
                "--port",
                str(PORT),
                "--outputs",
                ",".join(OUTPUTS),
                "--data",
                str(file),
            ],
            stdout=subprocess.DEVNULL,
        )
        self.device = NetworkProcessor(ProcessorInUse(name="Rack", can=NETWORK, address=f"127.0.0.1:{PORT}"))
        until = time.monotonic() + 30
        while True:
            try:
                found_at(f"127.0.0.1:{PORT}")
                return
            except DeviceError:
                if time.monotonic() > until or self.run.poll() is not None:
                    raise
                time.sleep(0.05)

    def kill(self) -> None:
        os.kill(self.run.pid, signal.SIGKILL)
        self.run.wait()


def main() -> int:
    first, other = preset("One", -3.0), preset("Other", -6.0)
    known = {digest(first), digest(other)}
    rng = random.Random(5)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "rack.json"
        process = Process(file)
        times = []
        for _ in range(2 if SHORT else 9):
            begun = time.perf_counter()
            for wanted in (first, other):
                process.device.load("A", wanted)
            read = process.device.read()
            times.append((time.perf_counter() - begun) / 2)
        process.device.play("A")
        took = sorted(times)[len(times) // 2]
        line(
            "14 outputs of 16 bands written and verified",
            f"{took:.2f} s",
            "2 s",
            took < 2 and read.presets["A"] == other,
        )
        mixed = cut_off = 0
        for number in range(KILLS):
            wanted = (first, other)[number % 2]

            def load(wanted: Preset = wanted, device: NetworkProcessor = process.device) -> None:
                nonlocal cut_off
                try:
                    device.load("A", wanted)
                except DolceError:
                    cut_off += 1

            writer = threading.Thread(target=load)
            writer.start()
            time.sleep(rng.uniform(0.0, 0.8 * took))
            process.kill()
            writer.join()
            process = Process(file)
            held = process.device.read()
            mixed += digest(held.presets["A"]) not in known or held.active != "A"
        line(
            f"killed at {KILLS} random moments of a load, {cut_off} of them cut off: a mixed preset plays",
            str(mixed),
            "0",
            mixed == 0,
        )
        process.kill()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
