"""Causes planted one at a time in rooms of the rehearsal, and what Read says of them.

Run `.venv/bin/python bench/finding_figures.py`; `--rooms N`: more rooms, `--seed S`: others, `--short`: causes of
the chain alone, in one room.
"""

import argparse
import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line

from dolce.core.acoustics import modes_of_box
from dolce.core.geometry import Point, RoomSize
from dolce.core.job import PassOptions
from dolce.core.reading import SURE, CurveFinding
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.rig import Fault
from dolce.core.room import Reverberation, RoomPlan, box_model, new_plan
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import ReadOptions
from dolce.services.wiring import Services, open_services

_SOFT, _HARD = "mineral wool 50 mm, 300 mm off the wall", "rendered brick"
_WALLS = ("floor", "ceiling", "front wall", "back wall", "left wall", "right wall")
_TAKEN = ("L", "R", "C")
_NEAR_OCTAVES = 0.2
_ACTS_DB, _NEW_DB = 3.0, 2.0  # what a cause must do, or do more than before, to count as planted


@dataclass(frozen=True, kw_only=True)
class Planted:
    """A cause, where it is to be found, and how the rehearsal comes by it."""

    kind: str
    what: str = ""
    at_hz: float | None = None  # None for wherever the largest finding of that kind stands
    plan: RoomPlan | None = None
    told: RoomPlan | None = None  # what Read is told of the room, where that is less
    faults: tuple[Fault, ...] = ()
    rows: tuple[str, ...] = _TAKEN
    front: str = "L"


def room_of(size: RoomSize, rng: np.random.Generator) -> RoomPlan:
    """5.1 with one sub; L stands out from the wall, somewhere, so that modes and walls act on it as they may."""
    plan = new_plan(size, layout="5.1", subs=1)
    place = Point(
        x_m=round(rng.uniform(0.5, 0.38 * size.width_m), 2),
        y_m=round(rng.uniform(0.6, 1.1), 2),
        z_m=round(rng.uniform(0.95, 1.35), 2),
    )
    return replace(plan, speakers=tuple(replace(s, place=place) if s.channel == "L" else s for s in plan.speakers))


def soft_but(*hard: str) -> Reverberation:
    """All surfaces taking much, but some."""
    return Reverberation(source="surfaces", surfaces={w: _HARD if w in hard else _SOFT for w in _WALLS})


def causes(services: Services, plan: RoomPlan) -> list[Planted]:
    """One of each kind in a room, each where it acts most."""
    dead = replace(plan, reverberation=soft_but())
    if SHORT:
        dead = replace(dead, spots=dead.spots[:3])
    found = [
        Planted(kind="speaker", plan=dead, faults=(Fault(kind="equaliser", channels=("L",)),), at_hz=2000.0),
        Planted(kind="microphone", plan=dead, faults=(Fault(kind="microphone"),)),
    ]
    covered = tuple(replace(s, screened=s.channel == "L") for s in plan.speakers)
    found.append(
        Planted(kind="screen", plan=replace(dead, speakers=covered), faults=(Fault(kind="covered", channels=("L",)),))
    )
    if SHORT:
        return found
    found.append(crossover_of(services, dead))
    return [*found, *(item for item in (mode_of(services, dead), boundary_of(services, dead)) if item is not None)]


def taken(services: Services, plan: RoomPlan, *rows: str, faults: tuple[Fault, ...] = ()) -> int:
    """A job in which some rows are taken at all spots."""
    job = services.jobs.create(JobDetails(name="Planted"), plan=plan)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=2.0)
    services.rigging.set_faults(job.id, faults)
    for row in rows:
        if row not in plan.channels:
            services.rows.add_combination(job.id, tuple(row.split("_")))
    services.taking.run(job.id, PassOptions(channels=rows))
    services.sound.wait()
    return job.id


def average_db(services: Services, plan: RoomPlan, row: str, *more: str, faults: tuple[Fault, ...] = ()) -> np.ndarray:
    """Energy average of a row over the spots, over 1/6 octave."""
    job_id = taken(services, plan, row, *more, faults=faults)
    return (
        services.reading.view(job_id, ReadOptions(channels=(row,), smoothing="1/6")).chosen.curves[row].average.level_db
    )


def crossover_of(services: Services, plan: RoomPlan) -> Planted:
    """A main and a sub, the sub that way round in which they take from each other."""
    inside = (ANALYSIS_GRID_HZ > 35) & (ANALYSIS_GRID_HZ < 120)
    ways = ((), (Fault(kind="inverted", channels=("Sub1",)),))
    softer = min(ways, key=lambda faults: average_db(services, plan, "L_Sub1", faults=faults)[inside].mean())
    return Planted(kind="crossover", plan=plan, faults=softer, rows=("L", "Sub1", "L_Sub1"), front="L_Sub1")


def mode_of(services: Services, plan: RoomPlan) -> Planted | None:
    """Two hard surfaces that face each other: the axial mode between them that then stands out most.

    None where none stands out that did not before: the best absorber there is leaves modes of its own.
    """
    box = box_model(plan)
    modes = modes_of_box(box.size_m, up_to_hz=140, speed_m_s=box.speed_m_s)
    before, best = average_db(services, plan, "L"), None
    for axis, walls in enumerate((("left wall", "right wall"), ("front wall", "back wall"), ("floor", "ceiling"))):
        hard = replace(plan, reverberation=soft_but(*walls))
        after = average_db(services, hard, "L")
        for orders, at in zip(modes.orders.tolist(), modes.frequency_hz, strict=True):
            if at < 26 or any(order for k, order in enumerate(orders) if k != axis):
                continue
            stands = stands_out_db(after, float(at))
            if (
                stands >= _ACTS_DB
                and stands - stands_out_db(before, float(at)) >= _NEW_DB
                and (best is None or stands > best[0])
            ):
                best = stands, Planted(kind="mode", what="-".join(map(str, orders)), at_hz=float(at), plan=hard)
    return None if best is None else best[1]


def stands_out_db(level_db: np.ndarray, at_hz: float) -> float:
    """A level around a frequency over the middle of the octave and a half around it."""
    octaves = np.abs(np.log2(ANALYSIS_GRID_HZ / at_hz))
    return float(level_db[octaves < 0.06].mean() - np.median(level_db[octaves < 0.75]))


def boundary_of(services: Services, plan: RoomPlan) -> Planted | None:
    """One hard surface: the one that takes most where it takes most, over the spots."""
    before, best = average_db(services, plan, "L"), None
    inside = np.flatnonzero((ANALYSIS_GRID_HZ > 50) & (ANALYSIS_GRID_HZ < 350))
    for name in _WALLS:
        hard = replace(plan, reverberation=soft_but(name))
        after = average_db(services, hard, "L")
        lost = (before - after)[inside]
        k = int(np.argmax(lost))
        at = float(ANALYSIS_GRID_HZ[inside[k]])
        if stands_out_db(after, at) < -_ACTS_DB and (best is None or lost[k] > best[0]):
            best = float(lost[k]), Planted(kind="boundary", what=name, at_hz=at, plan=hard)
    if best is None or best[0] < _ACTS_DB:
        return None
    # Nobody types materials: Read knows the room's time alone, and has to find the wall by the takes.
    return replace(best[1], told=replace(best[1].plan, reverberation=Reverberation(source="typed", typed_s=0.3)))


def read(services: Services, planted: Planted) -> tuple[CurveFinding, ...]:
    """Take what is needed, and what Read finds of the channel in front."""
    job_id = taken(services, planted.plan, *planted.rows, faults=planted.faults)
    if planted.told is not None:
        services.room.set_reverberation(job_id, planted.told.reverberation)
    return services.reading.view(job_id, ReadOptions(channels=planted.rows, front=planted.front)).findings


def named_first(planted: Planted, findings: tuple[CurveFinding, ...]) -> bool:
    """Whether the finding that the cause makes names it before all others."""
    if planted.at_hz is None:
        return any(f.causes and f.causes[0].kind == planted.kind for f in findings)
    near = [f for f in findings if abs(np.log2(f.frequency_hz / planted.at_hz)) < _NEAR_OCTAVES]
    best = max(near, key=lambda f: abs(f.size_db), default=None)
    return bool(
        best
        and best.causes
        and best.causes[0].kind == planted.kind
        and (not planted.what or best.causes[0].what.lower().split(", ")[0] == planted.what.lower())
    )


def message(planted: Planted, findings: tuple[CurveFinding, ...]) -> tuple[int, int]:
    """Causes said with confidence, and those of them that can't be: another than the planted one where that acts,
    another wall than the one that is hard, or one of the chain where nothing is wrong with it."""
    sure = [f for f in findings if f.causes and f.causes[0].sure >= SURE]
    wrong = 0
    for item in sure:
        kind = item.causes[0].kind
        here = planted.at_hz is not None and abs(np.log2(item.frequency_hz / planted.at_hz)) < _NEAR_OCTAVES
        # A mode is a peak and a reflection a dip: the one beside the other is no error.
        here = here and (item.size_db > 0) == (planted.kind != "boundary")
        of_chain = kind in ("speaker", "microphone", "screen", "crossover")
        other_wall = here and kind == "boundary" and planted.what.lower() not in item.causes[0].what
        wrong += (here and kind != planted.kind) or (of_chain and kind != planted.kind) or other_wall
    return len(sure), wrong


def main(rooms: int, seed: int, tell: Callable[[str], None] = print) -> int:
    first, planted_ones, sure, wrong = 0, 0, 0, 0
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder) / "data")
        for k in range(rooms):
            rng = np.random.default_rng(seed + k)
            size = RoomSize(
                length_m=round(rng.uniform(4.2, 7.5), 2),
                width_m=round(rng.uniform(3.2, 5.5), 2),
                height_m=round(rng.uniform(2.35, 3.1), 2),
            )
            for cause in causes(services, room_of(size, rng)):
                findings = read(services, cause)
                good = named_first(cause, findings)
                n, bad = message(cause, findings)
                first, planted_ones, sure, wrong = first + good, planted_ones + 1, sure + n, wrong + bad
                words = ", ".join(
                    f"{f.frequency_hz:.0f} Hz {f.size_db:+.1f} {f.causes[0].kind} {f.causes[0].what} "
                    f"{f.causes[0].sure:.2f}"
                    for f in findings
                    if f.causes
                )
                tell(
                    f"room {k}, {cause.kind} {cause.what} {cause.at_hz or 0:.0f} Hz: "
                    f"{'named' if good else 'NOT NAMED'}, {bad} of {n} wrong; {words[:230]}"
                )
        services.close()
    line(
        f"planted causes named first, {planted_ones} in {rooms} rooms",
        f"{first / planted_ones:.2f}",
        "0.9",
        first >= 0.9 * planted_ones,
    )
    line("wrong of those said with confidence", f"{wrong} of {sure}", "2 %", wrong <= 0.02 * max(sure, 1))
    return ended()


if __name__ == "__main__":
    options = argparse.ArgumentParser()
    options.add_argument("--rooms", type=int, default=1 if SHORT else 10)
    options.add_argument("--seed", type=int, default=100)
    options.add_argument("--short", action="store_true")
    chosen = options.parse_args()
    sys.exit(main(chosen.rooms, chosen.seed))
