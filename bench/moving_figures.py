"""A pair moved in rehearsals, and how well Read had predicted it.

Run `.venv/bin/python bench/moving_figures.py`; `--short`: one room.
"""

import sys
import tempfile
from dataclasses import replace
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line

from dolce.core.geometry import Point, RoomSize
from dolce.core.reading import TOLD_HZ
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.room import RoomPlan, new_plan
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.moving import Move
from dolce.services.read.options import ReadOptions
from dolce.services.wiring import Services, open_services

_ROOMS = ((4.6, 3.6, 2.5), (5.4, 4.2, 2.6), (6.2, 4.6, 2.7))
_BEFORE_M, _AFTER_M = 0.75, 0.5  # from the front wall


def placed(plan: RoomPlan, y_m: float) -> RoomPlan:
    """The plan with both loudspeakers so far from the front wall."""
    return replace(
        plan, speakers=tuple(replace(s, place=Point(x_m=s.place.x_m, y_m=y_m, z_m=1.2)) for s in plan.speakers)
    )


def taken(services: Services, plan: RoomPlan) -> int:
    """A job of a plan, taken at all spots."""
    job = services.jobs.create(JobDetails(name="Moved"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=2.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    return job.id


def main() -> int:
    inside = (TOLD_HZ[0] < ANALYSIS_GRID_HZ) & (TOLD_HZ[1] > ANALYSIS_GRID_HZ)
    within, unmoved, off = [], [], []
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder) / "data")
        for length, width, height in _ROOMS[:1] if SHORT else _ROOMS:
            plan = new_plan(RoomSize(length_m=length, width_m=width, height_m=height), layout="2.0", subs=0)
            first = taken(services, placed(plan, _BEFORE_M))
            second = taken(services, placed(plan, _AFTER_M))
            for channel in ("L", "R"):
                move = Move(y_m=_AFTER_M - _BEFORE_M)
                curve = services.moving.view(first, ReadOptions(front=channel), move).moved
                after = services.reading.view(second, ReadOptions(front=channel)).chosen.curves[channel]

                def missed(level: np.ndarray, taken_db: np.ndarray = after.average.level_db) -> np.ndarray:
                    apart = (smoothed_level_db(level, per_octave=6) - smoothed_level_db(taken_db, per_octave=6))[inside]
                    return apart - np.median(apart)  # the level of a whole take is no matter of its shape

                error = missed(curve.then_db)
                within.append(float(np.mean(np.abs(error) < 1)))
                unmoved.append(float(np.mean(np.abs(missed(curve.now_db)) < 1)))
                off.append(float(np.sqrt(np.mean(error**2))))
                print(
                    f"{length} x {width} x {height} m, {channel}: {off[-1]:.2f} dB RMS, {100 * within[-1]:.0f} % "
                    f"within 1 dB ({100 * unmoved[-1]:.0f} % unmoved), model misses {curve.off_db:.1f} dB, "
                    f"r {curve.agrees:.2f}"
                )
        services.close()
    line(
        "part of 40-400 Hz where a move of 25 cm was predicted within 1 dB over 1/6 octave, least",
        f"{min(within):.2f}",
        "0.75",
        min(within) >= 0.75,
    )
    line("the same without a prediction, most", f"{max(unmoved):.2f}", "less", max(unmoved) < min(within))
    line("RMS error of the prediction, most", f"{max(off):.2f} dB", "1.5 dB", max(off) <= 1.5)
    return ended()


if __name__ == "__main__":
    sys.exit(main())
