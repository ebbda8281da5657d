"""Listening and the remote: rendering against real time, loudness after matching, how soon the seat has silence.

Ratios and times of one run; what is promised stands beside.
"""

import tempfile
import time
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line, note

from dolce.core.filters import BandFilter
from dolce.core.geometry import RoomSize
from dolce.core.listening import Programme, Rendering, integrated_loudness, loudness_matched, paths_of
from dolce.core.processor import BassManagement, ChannelSettings, Crossover
from dolce.core.response import ImpulseResponse
from dolce.core.room import new_plan
from dolce.core.tuning import Outputs
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
from dolce.web import create_app

RATE, PATHS, PASSAGE_S = 48_000, 14, 3.0 if SHORT else 30.0


def render() -> None:
    """30 s of stereo through 14 responses of one second each, ten bands and a crossover at every output."""
    rng = np.random.default_rng(1)
    codes = [f"M{k}" for k in range(PATHS - 2)]
    outputs = ["L", "R", *codes]
    decay = np.exp(-np.arange(RATE) / (0.15 * RATE))
    responses = {
        code: ImpulseResponse(sample=rng.standard_normal(RATE) * decay, sample_rate_hz=RATE, start_s=-0.01)
        for code in outputs
    }
    bands = tuple(BandFilter(frequency_hz=f, gain_db=3.0, q=2.0) for f in np.geomspace(40, 8000, 10))
    held = Outputs(
        settings={code: ChannelSettings(filters=bands, delay_s=0.003) for code in outputs},
        bass=BassManagement(
            crossover=Crossover(frequency_hz=80.0),
            subs=(),
            sends={"L": dict.fromkeys(codes[::2], -3.0), "R": dict.fromkeys(codes[1::2], -3.0)},
        ),
    )
    programme = Programme(
        name="noise",
        channels=("L", "R"),
        sample_rate_hz=RATE,
        sample=0.1 * rng.standard_normal((2, round(PASSAGE_S * RATE))),
    )
    begun = time.perf_counter()
    heard = Rendering(programme).through(paths_of(held, responses, ("L", "R")))
    took = time.perf_counter() - begun
    line(
        "30 s of stereo through 14 measured paths",
        f"{took:.2f} s, {PASSAGE_S / took:.0f} times real time",
        "faster than real time",
        took < PASSAGE_S and heard.size == programme.sample.shape[1],
    )


def match() -> None:
    """Sounds of very different spectra after matching."""
    rng = np.random.default_rng(2)
    off = []
    for _ in range(2 if SHORT else 12):
        noise = rng.standard_normal((2, 6 * RATE))
        tilt = np.fft.irfft(np.fft.rfft(noise) * np.maximum(1, np.arange(3 * RATE + 1)) ** rng.uniform(-0.8, 0.2))
        sounds = {"one": 0.02 * noise, "other": tilt / np.abs(tilt).max() * 10 ** rng.uniform(-2, 0)}
        matched = loudness_matched(sounds, sample_rate_hz=RATE).sample
        found = [integrated_loudness(np.round(item * 2**23) / 2**23, sample_rate_hz=RATE) for item in matched.values()]
        off.append(abs(found[0] - found[1]))
    line("loudness after matching, 24 bits", f"{max(off):.3f} LU at most", "0.1 LU", max(off) < 0.1)


def stop() -> None:
    """A stop pressed in the seat while a sweep plays at its real pace, over the machine's own network."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        plan = new_plan(RoomSize(length_m=4.6, width_m=3.6, height_m=2.5), layout="2.0", spots=1)
        job = services.jobs.create(JobDetails(name="Bench"), plan=plan)
        services.rigging.set_rig(job.id, pace="real time", sweep_seconds=5.0)
        desk = create_app(services).extensions["dolce-remote"]
        desk.start(job.id, address="127.0.0.1", secure=False)
        phone = Device(desk.present.url)
        phone.post("/enter", code=desk.present.code)
        times = []
        for _ in range(1 if SHORT else 20):
            services.sound.wait()
            phone.post(f"/run/{services.jobs.get(job.id).spots[0].id}")
            until = time.perf_counter() + 20
            while (running := services.sound.running()) is None or running.fraction < 0.05:
                if time.perf_counter() > until:
                    raise RuntimeError("the pass did not begin")
                time.sleep(0.01)
            begun = time.perf_counter()
            phone.post("/stop")
            times.append(time.perf_counter() - begun)
            present = services.context.sounding.present
            if present is not None and not present.silent.is_set():
                raise RuntimeError("answered before it was silent")
        line(
            "stop in the seat, until it is silent and answered",
            f"{1000 * max(times):.0f} ms at most",
            "150 ms",
            max(times) < 0.15,
        )
        note("  median", f"{1000 * float(np.median(times)):.0f} ms")
        desk.close()
        services.close()


class Device:
    """A phone's browser, over a real connection."""

    def __init__(self, base: str) -> None:
        import requests

        self.base, self.session, self.token = base, requests.Session(), ""

    def post(self, path: str, **data: str) -> None:
        """Post a form with the token that the page holds."""
        if path in ("/enter",) or not self.token:
            page = self.session.get(f"{self.base}/").text
            self.token = page.split('name="csrf_token" value="')[1].split('"')[0]
        self.session.post(self.base + path, data={"csrf_token": self.token, **data}, timeout=10).raise_for_status()


def main() -> int:
    render()
    match()
    stop()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
