"""The figures that the project promises, measured: run `.venv/bin/python bench/figures.py [--short]`.

Times are of this machine; the ratios beside them are taken in the same run, and hold elsewhere too.
"""

import statistics
import subprocess
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line, note
from scipy import fft, signal

from dolce.core.correction import Limits, Needs, fit_bands, plan_correction
from dolce.core.dsp import smoothed_power
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    Deconvolver,
    analyse_recording,
    drift_between_chirps_ppm,
    find_chirps,
    level_on_grid,
    stretched,
)
from dolce.core.signals import Sweep, excitation_values, with_chirps
from dolce.formats.audio_file import write_wav
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo import build_demo
from dolce.services.sample.demo_rooms import attic
from dolce.services.takes.take_making import (
    captured,
    chirps_of,
    deconvolver_of,
    deconvolver_with_chirps,
    stimulus_of,
    sweep_of,
    synced_playing,
)
from dolce.services.wiring import Services, open_services
from dolce.web import create_app

RATE = 48_000
GRID_FINE = np.arange(15.0, 21_900.0, 0.25)
GRID = ANALYSIS_GRID_HZ[(ANALYSIS_GRID_HZ >= 20) & (ANALYSIS_GRID_HZ <= 20_000)]


def median_s(work: Callable[[], object], *, runs: int = 1 if SHORT else 9) -> float:
    """Median time of one call, after one that is not counted."""
    work()
    times = []
    for _ in range(runs):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return statistics.median(times)


def accuracy() -> None:
    """A known system, quiet and with noise 40 dB below."""
    sweep = Sweep()
    x = sweep.samples()
    samples = x.size + RATE
    delay = 0.0123456
    size = fft.next_fast_len(2 * samples)
    frequency = fft.rfftfreq(size, 1 / RATE)
    b, a = signal.butter(2, 40, "high", fs=RATE)
    system = -0.5 * signal.freqz(b, a, worN=frequency, fs=RATE)[1]
    recording = fft.irfft(fft.rfft(x, size) * system * np.exp(-2j * np.pi * frequency * delay), size)[:samples]
    expected = 20 * np.log10(np.abs(0.5 * signal.freqz(b, a, worN=GRID, fs=RATE)[1]))
    deconvolver = Deconvolver(x, sample_rate_hz=RATE, recording_samples=samples)
    quiet = analyse_recording(recording, deconvolver=deconvolver)
    error = np.abs(level_on_grid(quiet.response, at_hz=GRID, per_octave=None) - expected).max()
    line("5 s sweep in quiet, 20 Hz-20 kHz, largest error", f"{error:.4f} dB", "0.001 dB", error <= 0.001)
    late = abs(quiet.arrival.time_s - delay) * 1e6
    line("  arrival", f"{late:.3f} microseconds off", "1 microsecond", late <= 1)
    line("  polarity (the system inverts)", quiet.arrival.polarity, "inverted", quiet.arrival.polarity == "inverted")
    # The known system itself, smoothed the same way: not our own quiet measurement.
    power = np.interp(GRID_FINE, frequency, np.abs(system) ** 2)
    smooth = 10 * np.log10(smoothed_power(GRID_FINE, power, at_hz=GRID, per_octave=12))
    worst: dict[int, list[float]] = {40: [], 20: []}
    for seed in range(1 if SHORT else 5):
        noise = np.random.default_rng(seed).standard_normal(samples) * np.sqrt(np.mean(recording[: x.size] ** 2))
        for below_db, of in worst.items():
            noisy = analyse_recording(recording + noise * 10 ** (-below_db / 20), deconvolver=deconvolver)
            of.append(np.abs(level_on_grid(noisy.response, at_hz=GRID, per_octave=12) - smooth).max())
    for below_db, most in ((40, 0.3), (20, 1.6)):
        line(
            f"  at {below_db} dB signal to noise, 1/12 octave, worst of 5 seeds",
            f"{max(worst[below_db]):.3f} dB",
            f"{most} dB",
            max(worst[below_db]) <= most,
        )


def drift() -> None:
    """A recorder 50 ppm off, through a speaker whose crossover turns the phase: with marks, and without."""
    sweep = Sweep()
    crossed = [signal.butter(4, 2200, side, fs=RATE, output="sos") for side in ("low", "high")]
    x = np.concatenate([np.zeros(2000), with_chirps(sweep.samples(), sample_rate_hz=RATE), np.zeros(RATE)])
    through = signal.sosfilt(crossed[0], x) - signal.sosfilt(crossed[1], x)
    still = analyse_recording(through, deconvolver=deconvolver_with_chirps(sweep, through.size)).arrival.time_s
    slow = stretched(through, 50e-6)
    found = drift_between_chirps_ppm(slow, chirps=chirps_of(sweep), sample_rate_hz=RATE)
    back = analyse_recording(stretched(slow, found * 1e-6), deconvolver=deconvolver_with_chirps(sweep, slow.size))
    late = 1e6 * abs(back.arrival.time_s - still)
    line(
        "50 ppm through a crossover, with marks: arrival", f"{late:.2f} microseconds off", "10 microseconds", late <= 10
    )
    bare = stretched(np.concatenate([sweep.samples(), np.zeros(RATE)]), 50e-6)
    line(
        "  and a sweep without marks",
        "no drift told"
        if drift_between_chirps_ppm(bare, chirps=chirps_of(sweep), sample_rate_hz=RATE) is None
        else "a drift told",
        "no drift told",
        drift_between_chirps_ppm(bare, chirps=chirps_of(sweep), sample_rate_hz=RATE) is None,
    )


def clocks() -> None:
    """Recordings of any length read at another speed: against sines of a clock that runs off, and memory."""
    worst_db, worst_s, tones = 0.0, 0.0, np.array([50.0, 1000.0, 10_000.0, 20_000.0])
    for rate in (44_100, 48_000, 96_000, 192_000):
        for seconds in (1, 3) if SHORT else (1, 20, 61, 120):
            if rate * seconds > 12e6:
                continue
            for ppm in (-300, 300):
                now = np.arange(rate * seconds) / rate
                read = stretched(sum(0.2 * np.sin(2 * np.pi * f * now / (1 + ppm * 1e-6)) for f in tones), ppm * 1e-6)
                for end in (0.3, 0.97):
                    part = slice(int(end * now.size) - 8192, int(end * now.size))
                    basis = np.array([turn(2 * np.pi * f * now[part]) for f in tones for turn in (np.sin, np.cos)]).T
                    found = np.linalg.lstsq(basis, read[part], rcond=None)[0].reshape(-1, 2)
                    worst_db = max(worst_db, float(np.abs(20 * np.log10(np.hypot(*found.T) / 0.2)).max()))
                    late = np.arctan2(found[:, 1], found[:, 0]) / (2 * np.pi * tones)
                    worst_s = max(worst_s, float(np.abs(late).max()))
    line("Clock drift of 300 ppm, 1 to 120 s, 44.1 to 192 kHz: level", f"{worst_db:.4f} dB", "0.05 dB", worst_db < 0.05)
    line("... and arrival", f"{1e6 * worst_s:.3f} us", "1 us", worst_s < 1e-6)
    recording = np.random.default_rng(1).standard_normal(192_000 * (5 if SHORT else 60)).astype(np.float64)
    tracemalloc.start()
    stretched(recording, 100e-6)
    most = tracemalloc.get_traced_memory()[1] / 1e6 + recording.nbytes / 1e6
    tracemalloc.stop()
    line("Memory of taking the drift out of 60 s at 192 kHz", f"{most:.0f} MB", "500 MB", most < 500)


def take_cost(services: Services, job_id: int) -> None:
    """From a recorded take to a stored response, against three bare FFTs of its length."""
    job = services.jobs.get(job_id)
    sweep = sweep_of(job.rig)
    with services.context.look() as work:
        take = work.takes.latest(job.round_id)[0]
        data, _ = work.takes.recording(take.id)
    from dolce.formats.audio_file import read_audio

    recording = read_audio(data, name="take").sample
    stimulus_of(sweep)
    size = deconvolver_of(sweep, recording.size).size
    padded = np.zeros(size)
    padded[: recording.size] = recording
    bare = median_s(lambda: [fft.rfft(padded) for _ in range(3)])

    def whole() -> None:
        capture, levels = captured(recording, sweep=sweep, microphone=job.rig.curve)
        with services.context.change() as work:
            work.takes.add(
                round_id=job.round_id,
                channel="L",
                spot_id=1,
                at=services.context.now(),
                source="rig",
                capture=capture,
                levels=levels,
                arrival_known=True,
                recording=data,
                recording_name="x",
                played=excitation_values(sweep),
            )

    cost = median_s(whole)
    ratio = cost / bare
    line("recorded 5 s take to stored response", f"{cost * 1000:.0f} ms, {ratio:.1f} x three FFTs", "4 x", ratio <= 4)
    synced = synced_playing(sweep)
    heard = (
        np.concatenate([np.zeros(3000), synced.synced.samples() + synced.synced.sync_chirps(), np.zeros(RATE)]) * 0.1
    )
    looked = median_s(lambda: find_chirps(heard, apart=synced.synced.silent_until, sample_rate_hz=RATE)) / bare
    line("  with drift looked for", f"{ratio + looked:.1f} x three FFTs", "4 x", ratio + looked <= 4)
    whole_way = median_s(lambda: synced.one_clock(heard, sync_flight_s=0.01)) / bare
    note("  with drift found and taken out", f"{ratio + whole_way:.1f} x three FFTs")


def fit_time() -> None:
    """Ten bands for a pair with nine spots: a dozen starts each, where one had to do in 1 s before."""
    rng = np.random.default_rng(2)

    def pair() -> None:
        for _ in range(2):
            levels = np.array(
                [np.convolve(rng.normal(0, 12, ANALYSIS_GRID_HZ.size), np.ones(10) / 10, "same") for _ in range(9)]
            ) * 0.4 + np.convolve(rng.normal(0, 14, ANALYSIS_GRID_HZ.size), np.ones(12) / 12, "same")
            flat = np.zeros(ANALYSIS_GRID_HZ.size)
            needs = Needs.of(levels, flat, at_hz=ANALYSIS_GRID_HZ, band_hz=(200, 2000))
            plan = plan_correction(ANALYSIS_GRID_HZ, needs, flat, limits=Limits())
            fit_bands(plan, limits=Limits(), sample_rate_hz=RATE)

    cost = median_s(pair)
    line("10 bands for a pair with 9 spots", f"{cost:.2f} s", "2 s", cost < 2)


def pages(services: Services, job_id: int) -> None:
    """Every page of the demo job, at the server."""
    client = create_app(services).test_client()
    for stop in ("room", "rig", "takes", "read", "align", "shape", "load", "prove"):
        cost = median_s(lambda stop=stop: client.get(f"/jobs/{job_id}/{stop}"), runs=1 if SHORT else 7)
        line(f"page {stop}", f"{cost * 1000:.0f} ms", "100 ms", cost < 0.1)
    band = services.shaping.correction(job_id).bands["L"][0]

    def edit() -> None:
        on = not services.bands.band(job_id, "L", band.id).on
        services.bands.switch(job_id, "L", band.id, on=on)
        services.shaping.view(job_id)

    cost = median_s(edit, runs=2 if SHORT else 7)
    line("edit of a band: new prediction and headroom", f"{cost * 1000:.0f} ms", "100 ms", cost < 0.1)


def prepared(services: Services) -> int:
    """The complete sample job; in short a pair at two spots with its filters."""
    if not SHORT:
        build_demo(services)
        return next(job.id for job in services.jobs.all() if job.name == "Ferry Lane attic")
    job = services.jobs.create(JobDetails(name="Pair"), plan=replace(attic(), spots=attic().spots[:2]))
    services.rigging.set_rig(job.id, pace="fast")
    services.taking.run_rest(job.id)
    services.sound.wait()
    services.aligning.use_proposal(job.id)
    services.finding.find(job.id)
    return job.id


# The kernel counts what the parent held before as well, but not here.
_PEAK = """
import sys
from pathlib import Path
from dolce.__main__ import main
main(sys.argv[1:])
print("peak", Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0])
"""


def long_recordings() -> None:
    """Memory of the command on a recording of a minute at the highest rate, drift looked for and taken out."""
    rate, seconds = 192_000, 12 if SHORT else 60
    for sweep_s, most_mb in ((2.0, 500),) if SHORT else ((10.0, 500), (50.0, 500)):
        stimulus = with_chirps(
            Sweep(duration_s=sweep_s, sample_rate_hz=rate, stop_hz=80_000.0).samples(), sample_rate_hz=rate
        )
        recording = np.random.default_rng(1).normal(0, 1e-4, seconds * rate)
        drifted = stretched(np.concatenate([np.zeros(rate), stimulus, np.zeros(rate)]), -100e-6)
        recording[2 * rate : 2 * rate + drifted.size] += drifted[: recording.size - 2 * rate]
        with tempfile.TemporaryDirectory() as folder:
            for name, sample in (("heard", recording), ("played", stimulus)):
                Path(folder, f"{name}.wav").write_bytes(write_wav(sample, sample_rate_hz=rate))
            done = subprocess.run(
                [sys.executable, "-c", _PEAK, "response", "heard.wav", "--stimulus", "played.wav", "--out", "o.csv"],
                cwd=folder,
                capture_output=True,
                text=True,
                check=True,
            )
        peak_mb = int(done.stdout.split("peak ")[1]) / 1024
        line(
            f"`dolce response`, {seconds} s at 192 kHz, sweep of {sweep_s:.0f} s, 100 ppm off",
            f"{peak_mb:.0f} MB",
            f"{most_mb} MB",
            peak_mb < most_mb,
        )


def main() -> int:
    """Print all figures."""
    accuracy()
    drift()
    clocks()
    long_recordings()
    fit_time()
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job_id = prepared(services)
        pages(services, job_id)
        take_cost(services, job_id)
        services.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
