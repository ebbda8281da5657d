"""Figures of the Rig stop: run `.venv/bin/python bench/rig_figures.py`; needs jackd for this computer's audio."""

import contextlib
import random
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parents[1] / "tests" / "devices")]

import numpy as np
import sounddevice
from promises import SHORT, ended, line
from test_sound_card import HOST, OUTPUTS, PERIOD, RATE, VirtualRoom, play

from dolce.core.room import without_channel
from dolce.core.signals import Source
from dolce.devices.interface import SoundStopped
from dolce.devices.sound_card import SoundCard, _Exchange, sound_cards
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic, barn
from dolce.services.wiring import open_services
from dolce.web import create_app

LARGE = attic() if SHORT else without_channel(barn(), "Sub3")


def lines() -> None:
    """13 outputs (in short 2), as fast as the rehearsal rig computes."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job = services.jobs.create(JobDetails(name="Barn"), plan=LARGE)
        services.rigging.set_rig(job.id, pace="fast")
        begun = time.perf_counter()
        services.lines.run(job.id)
        services.sound.wait()
        seconds = time.perf_counter() - begun
        found = services.lines.view(job.id)
        line(
            f"line check of {found.checked} outputs",
            f"{seconds:.1f} s",
            "10 s",
            seconds < 10 and found.checked == len(LARGE.channels),
        )
        services.rigging.set_rig(job.id, pace="real time")
        services.taking.run_rest(job.id)
        time.sleep(0.5 if SHORT else 2.0)
        begun = time.perf_counter()
        services.sound.stop()
        services.sound.wait()
        silent = 1000 * (time.perf_counter() - begun)
        line("rehearsal rig: stop to silence", f"{silent:.0f} ms", "100 ms", silent < 100)
        services.close()


def live(sheet: str) -> None:
    """Meter or spectrum with pink noise, looked at four times a second by the page: processor time of it all."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job = services.jobs.create(JobDetails(name="Barn"), plan=LARGE if SHORT else barn())
        client = create_app(services).test_client()
        headers = {"HX-Request": "true"}
        services.live.start(job.id, sheet, source=Source(kind="pink", level_dbfs=-30), channel="L", per_octave=24)
        time.sleep(1.0 if SHORT else 3.0)  # the first block computes the room
        begun, used = time.perf_counter(), time.process_time()
        for _ in range(3 if SHORT else 40):
            assert client.get(f"/jobs/{job.id}/rig/live/{sheet}", headers=headers).status_code == 200
            time.sleep(0.25)
        share = 100 * (time.process_time() - used) / (time.perf_counter() - begun)
        line(f"{sheet}, running and looked at, of one core", f"{share:.1f} %", "10 %", share < 10)
        begun = time.perf_counter()
        services.sound.stop()
        services.sound.wait()
        silent = 1000 * (time.perf_counter() - begun)
        line(f"{sheet}: stop to silence", f"{silent:.0f} ms", "100 ms", silent < 100)
        services.close()


class Played:
    """When this computer's audio played its last block that was not silent."""

    def __init__(self) -> None:
        self.last = 0.0
        exchange = _Exchange.exchange

        def on_progress(run, heard, played, frames, when, status) -> None:
            exchange(run, heard, played, frames, when, status)
            if played.any():
                self.last = time.monotonic()

        _Exchange.exchange = on_progress


def card() -> None:
    """Noise through the virtual device, and how fast it stops, whenever stop is pressed."""
    room = VirtualRoom()
    try:
        sound_cards(again=True)
        noise = np.random.default_rng(2).uniform(-0.5, 0.5, (1 if SHORT else 60) * RATE)
        heard = play(noise, output=OUTPUTS)
        wrong = int((np.abs(heard[PERIOD:] - noise[:-PERIOD]) > 1e-6).sum())
        line("this computer's audio: wrong samples of noise", f"{wrong} of {noise.size}", "0", wrong == 0)
        played, rng, late = Played(), random.Random(3), []
        for _ in range(1 if SHORT else 60):
            pressed, moment = threading.Event(), []

            def press(pressed=pressed, moment=moment) -> None:
                moment.append(time.monotonic())
                pressed.set()

            played.last = 0.0
            threading.Timer(rng.uniform(0.0, 1.5), press).start()
            with contextlib.suppress(SoundStopped):
                SoundCard(name="virtual_room", host=HOST).play_and_record(
                    {1: np.resize(noise, 2 * RATE)},
                    sample_rate_hz=RATE,
                    progress=lambda _: None,
                    stopped=pressed.is_set,
                )
            late.append(played.last - moment[0])
        block_ms = 1000 * PERIOD / RATE
        worst = 1000 * max(late)
        line(
            f"this computer's audio: last sound after {len(late)} stops",
            f"{worst:.0f} ms at most",
            f"100 ms and a block of {block_ms:.0f} ms",
            worst < 100 + block_ms,
        )
    finally:
        # PortAudio first, else it aborts the process when its server has gone.
        sounddevice._terminate()
        room.close()
        sounddevice._initialize()


if __name__ == "__main__":
    lines()
    live("meter")
    if not SHORT:
        live("spectrum")
    card()
    raise SystemExit(ended())
