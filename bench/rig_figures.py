"""Figures of the Rig stop: run `.venv/bin/python bench/rig_figures.py`; needs jackd for this computer's audio."""

import contextlib
import os
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path[:0] = [str(Path(__file__).parents[1] / "tests" / "devices")]

import numpy as np
from test_sound_card import HOST, OUTPUTS, PERIOD, RATE, VirtualRoom, play

from dolce.core.room import without_channel
from dolce.core.signals import Source
from dolce.devices.interface import SoundStopped
from dolce.devices.sound_card import SoundCard, sound_cards
from dolce.services.demo_rooms import barn
from dolce.services.job_keeping import JobWish
from dolce.services.wiring import open_services
from dolce.web import create_app


def line(what: str, found: str, promised: str, held: bool) -> None:
    print(f"{'held  ' if held else 'MISSED'}  {what:<62} {found:<26} promised: {promised}", flush=True)


def lines() -> None:
    """13 outputs, as fast as the rehearsal rig computes."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job = services.jobs.create(JobWish(name="Barn"), plan=without_channel(barn(), "Sub3"))
        services.rigging.set_rig(job.id, pace="fast")
        begun = time.perf_counter()
        services.lines.run(job.id)
        services.sound.wait()
        seconds = time.perf_counter() - begun
        found = services.lines.view(job.id)
        line(f"line check of {found.checked} outputs", f"{seconds:.1f} s", "10 s", seconds < 10 and found.checked == 13)
        services.rigging.set_rig(job.id, pace="real time")
        services.taking.run_rest(job.id)
        time.sleep(2.0)
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
        job = services.jobs.create(JobWish(name="Barn"), plan=barn())
        client = create_app(services).test_client()
        headers = {"HX-Request": "true"}
        services.live.start(job.id, sheet, source=Source(kind="pink", level_dbfs=-30), channel="L", per_octave=24)
        time.sleep(3.0)                            # the first block computes the room
        begun, used = time.perf_counter(), time.process_time()
        for _ in range(40):
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


def card() -> None:
    """A minute of noise through the virtual device, and how fast it stops."""
    room = VirtualRoom()
    sound_cards(again=True)
    noise = np.random.default_rng(2).uniform(-0.5, 0.5, 60 * RATE)
    heard = play(noise, output=OUTPUTS)
    wrong = int((np.abs(heard[PERIOD:] - noise[:-PERIOD]) > 1e-6).sum())
    line("this computer's audio: wrong samples in a minute of noise", f"{wrong} of {noise.size}", "0", wrong == 0)
    device = SoundCard(name="virtual_room", host=HOST)
    pressed = threading.Event()
    threading.Timer(2.0, pressed.set).start()
    with contextlib.suppress(SoundStopped):
        device.play_and_record(noise, output=1, sample_rate_hz=RATE, progress=lambda _: None, stopped=pressed.is_set)
    # Up to 30 ms pass before the stop is seen; a block of this server alone lasts 85 ms.
    silent = 1000 * device.silent_after_s + 30
    line("this computer's audio: stop to silence, blocks of 85 ms", f"{silent:.0f} ms at most", "100 ms", silent < 100)
    sys.stdout.flush()
    room.client.terminate()
    room.server.terminate()
    room.server.wait(10)
    os._exit(0)                                    # PortAudio would wait for its server


if __name__ == "__main__":
    lines()
    live("meter")
    live("spectrum")
    card()
