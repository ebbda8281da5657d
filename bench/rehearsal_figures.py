"""Figures of the rehearsal: how long it takes, and what putting microphones by hand does to repeated rounds.

Run `.venv/bin/python bench/rehearsal_figures.py`; `--short` leaves the sample jobs out.
"""

import tempfile
import time
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line, note

from dolce.core.correction import FilterType, deviations_db
from dolce.core.correction.outcome import predicted_within_db
from dolce.core.dsp import energy_mean_db
from dolce.core.filters import chain_level_db
from dolce.core.geometry import Point, RoomSize
from dolce.core.job import PassOptions
from dolce.core.response import ANALYSIS_GRID_HZ, ImpulseResponse, level_on_grid
from dolce.core.simulation import field_spectrum, plain_surfaces, response_samples
from dolce.core.tuning import Correction, SeatResponses, convolved_db, expectation_of, found_filters, shape_of
from dolce.devices.rehearsal import as_placed, model_of
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo import build_demo
from dolce.services.sample.demo_rooms import net_loft
from dolce.services.wiring import open_services

RATE, ROOMS = 48_000, 1 if SHORT else 14
NEW = 2 if SHORT else 120  # spots that no take is made at


def response(rng: np.random.Generator, k: int, place: np.ndarray, spot: np.ndarray, room: RoomSize) -> np.ndarray:
    """Impulse response of the left monitor to a spot."""
    surfaces = plain_surfaces(room, reverberation_s=0.3 + 0.02 * k)
    axis = (spot - place) / np.linalg.norm(spot - place)
    spectrum = field_spectrum(
        model_of("L"), place, axis, spot, surfaces=surfaces, speed_m_s=343.0, sample_rate_hz=RATE, rng=rng
    )
    return np.fft.irfft(spectrum, response_samples(surfaces, RATE))


def one_response() -> None:
    """One speaker to one spot, the room known and the speaker too."""
    room = RoomSize(width_m=3.7, length_m=4.6, height_m=2.4)
    place, cost = np.array([1.2, 0.6, 1.1]), []
    for k in range(3 if SHORT else 21):
        begun = time.perf_counter()
        response(np.random.default_rng(k), 0, place, np.array([1.9, 2.2 + 0.01 * k, 1.2]), room)
        cost.append(time.perf_counter() - begun)
    found = float(np.median(cost))
    line("response of one speaker to one spot, 48 kHz", f"{found * 1000:.0f} ms", "60 ms", found < 0.06)


def placing() -> None:
    """Energy average of n spots against itself, microphones put back by hand; level of 500 Hz to 2 kHz."""
    rng = np.random.default_rng(3)
    apart: dict[int, list[float]] = {1: [], 2: [], 4: [], 9: []}
    levels: list[float] = []
    bass = (ANALYSIS_GRID_HZ >= 40) & (ANALYSIS_GRID_HZ <= 500)
    middle = (ANALYSIS_GRID_HZ >= 500) & (ANALYSIS_GRID_HZ <= 2000)
    for k in range(ROOMS):
        room = RoomSize(length_m=rng.uniform(4, 8), width_m=rng.uniform(3, 6), height_m=rng.uniform(2.3, 3.2))
        place = np.array([rng.uniform(0.4, room.width_m - 0.4), rng.uniform(0.4, 1.0), 1.2])
        centre = np.array([room.width_m / 2, place[1] + rng.uniform(1.2, 2.2), 1.2])
        spots = [np.clip(centre + rng.uniform(-0.25, 0.25, 3) * [1, 1, 0.4], 0.3, None) for _ in range(9)]
        twice = []
        for seed in ("first", "second"):
            real = [as_placed(Point(x_m=s[0], y_m=s[1], z_m=s[2]), seed=f"{seed}/{k}", room=room) for s in spots]
            twice.append(
                [
                    level_on_grid(
                        ImpulseResponse(
                            sample=response(np.random.default_rng(i), k, place, item.as_array(), room),
                            sample_rate_hz=RATE,
                            start_s=0.0,
                        ),
                        at_hz=ANALYSIS_GRID_HZ,
                        per_octave=48,
                    )
                    for i, item in enumerate(real)
                ]
            )
        for n, found in apart.items():
            for j in range(0, 9 - n + 1, n):
                first, second = (energy_mean_db(np.array(rows[j : j + n])) for rows in twice)
                found.append(float(np.sqrt(np.mean((first - second)[bass] ** 2))))
                if n == 1:
                    means = [10 * np.log10(np.mean(10 ** (row[middle] / 10))) for row in (first, second)]
                    levels.append(float(means[0] - means[1]))
    for n, found in apart.items():
        most, within = float(np.percentile(found, 90)), predicted_within_db(n)
        line(
            f"average of {n} against itself, put by hand",
            f"{np.median(found):.2f} dB, 9 of 10 below {most:.2f}",
            f"{within:.2f} dB",
            most < within,
        )
    line(
        "level of one spot against itself",
        f"{np.std(levels):.2f} dB (standard deviation)",
        "0.3 dB",
        np.std(levels) < 0.3,
    )


def unmeasured() -> None:
    """What is said beforehand of spots that were not measured, against many of them; 5 to 11 that were, around one
    seat and, in every second room, around three."""
    rng, heard = np.random.default_rng(17), []
    for k in range(1 if SHORT else 48):
        room = RoomSize(length_m=rng.uniform(4, 8), width_m=rng.uniform(3, 6), height_m=rng.uniform(2.3, 3.2))
        place = np.array([rng.uniform(0.5, room.width_m / 2 - 0.4), rng.uniform(0.4, 1.0), 1.2])
        centre = np.array([room.width_m / 2 + rng.uniform(-0.3, 0.3), place[1] + rng.uniform(1.2, 2.2), 1.2])
        taken = (5, 7, 9, 11)[k % 4]
        spots = centre + rng.uniform(-0.3, 0.3, (taken + NEW, 3)) * [1, 1, 0.4]
        seat_of = np.arange(taken + NEW) % 3 if k % 2 else np.zeros(taken + NEW, dtype=int)
        spots = spots + np.array([[0, 0, 0], [0.5, 0.1, 0], [-0.2, 0.7, 0]])[seat_of]
        levels = [
            level_on_grid(
                ImpulseResponse(
                    sample=response(np.random.default_rng(1000 * k + i), k % 12, place, spot, room),
                    sample_rate_hz=RATE,
                    start_s=0.0,
                ),
                at_hz=ANALYSIS_GRID_HZ,
                per_octave=48,
            )
            for i, spot in enumerate(spots)
        ]
        heard.append((np.array(levels[:taken]), np.array(levels[taken:]), seat_of[:taken], seat_of[taken:]))
    for name, desired in {
        "parametric filters": Correction(),
        "convolution": Correction(filter_type=FilterType(method="convolution")),
    }.items():
        held, off = [], []
        for taken, new, seat_of, seat_of_new in heard:
            at_seats = SeatResponses.of(taken, seat_of=seat_of.tolist())
            shape = shape_of("L", at_seats, at_hz=ANALYSIS_GRID_HZ, correction=desired, sample_rate_hz=RATE)
            found = found_filters({"L": shape}, desired, sample_rate_hz=RATE).correction
            shape = shape_of("L", at_seats, at_hz=ANALYSIS_GRID_HZ, correction=found, sample_rate_hz=RATE)
            limits, band_hz = found.limits_for("L"), found.level_band_hz("L")
            added = chain_level_db(found.filters("L"), at_hz=ANALYSIS_GRID_HZ, sample_rate_hz=RATE) + convolved_db(
                found.convolutions.get("L"), ANALYSIS_GRID_HZ
            )
            inside = (band_hz[0] <= ANALYSIS_GRID_HZ) & (band_hz[1] >= ANALYSIS_GRID_HZ)
            lacking = shape.target_db - new
            lacking = lacking - lacking[:, inside].mean(axis=1, keepdims=True)
            off_db = deviations_db(
                lacking, added, at_hz=ANALYSIS_GRID_HZ, level_band_hz=band_hz, range_hz=(limits.from_hz, limits.to_hz)
            )
            left = float(np.mean([off_db[seat_of_new == seat].mean() for seat in seat_of]))  # each seat as among those
            message = expectation_of(shape, found, sample_rate_hz=RATE)
            held.append(message.after_at_new_spots_low_db <= left <= message.after_at_new_spots_high_db)
            off.append(message.after_at_new_spots_db - left)
        note(
            f"{name}: what is said of unmeasured spots is off by",
            f"{np.median(np.abs(off)):.2f} dB, mean {np.mean(off):+.2f}",
        )
        line("  and its interval holds", f"{100 * np.mean(held):.0f} %", "80 +- 8 %", abs(np.mean(held) - 0.8) <= 0.08)


def jobs() -> None:
    """The sample jobs, and their takes in the background."""
    services = open_services(Path(tempfile.mkdtemp()))
    begun = time.perf_counter()
    build_demo(services)
    ready = time.perf_counter() - begun
    line("complete sample job at the first start", f"{ready:.0f} s", "30 s", ready < 30)
    begun = time.perf_counter()
    services.preparing.begin()
    services.preparing.wait()
    took = time.perf_counter() - begun
    takes = sum(services.taking.board(job.id).taken for job in services.jobs.all() if "attic" not in job.name)
    line(f"{takes} takes of the two larger rooms, 5.1 and 7.1.4", f"{took:.0f} s", "180 s", took < 180)
    services.close()


def passing() -> None:
    """A pass in real time against its sounds and waits."""
    services = open_services(Path(tempfile.mkdtemp()))
    job = services.jobs.create(JobDetails(name="Pass"), plan=net_loft())
    services.rigging.set_rig(job.id, pace="real time", sweep_seconds=1.0 if SHORT else 5.0)
    rows, spots = ("L",) if SHORT else ("L", "Rs", "Sub1", "Sub1_Sub2"), [s.id for s in job.spots[:2]]
    options = PassOptions(channels=rows, spots=tuple(spots), wait_s=1.0)
    begun = time.perf_counter()
    record = services.taking.run(job.id, options)
    services.sound.wait()
    took = time.perf_counter() - begun
    asked = len(record.steps) * record.seconds_per_step + 2 * options.wait_s
    line(
        f"pass of {len(record.steps)} takes with waits, against its sounds and waits",
        f"{took / asked:.2f}",
        "1.15",
        took <= 1.15 * asked,
    )
    services.close()


if __name__ == "__main__":
    one_response()
    placing()
    unmeasured()
    passing()
    if not SHORT:
        jobs()
    ended()
