"""Very unequal weights of seats, from the search for subs to the proof and the commands."""

import json

import numpy as np
import pytest
from numpy.testing import assert_allclose

from dolce.__main__ import main
from dolce.core.processor import Crossover
from dolce.core.response import ANALYSIS_GRID_HZ as GRID
from dolce.core.subs import SearchLimits
from dolce.core.tuning import SeatWeighting
from dolce.services.wiring import open_services
from rooms import BRIEF, taken_room

HEAVY = ((1.0, 0.05), (0.05, 1.0))


@pytest.fixture(scope="module")
def taken(prepared):
    services = open_services(taken_room(prepared, layout="3.1", subs=2))
    services.finding.effort = BRIEF
    yield services
    services.close()


def weighed(services, weights):
    """A copy of the job whose two seats have these weights."""
    job_id = services.jobs.copy(1).id
    for seat, weight in zip(services.jobs.get(job_id).plan.seats, weights, strict=True):
        services.room.set_seat(job_id, seat.id, name=seat.name, weight=weight, main=seat.is_main)
    return job_id


def searched(services, job_id):
    services.workbench.search(job_id, SearchLimits())
    services.workbench.wait(job_id)
    services.workbench.use(job_id, "search")
    services.crossing.set_crossovers(job_id, {"fronts": Crossover(frequency_hz=80.0)})
    services.aligning.use_proposal(job_id)
    return services.aligning.view(job_id).alignment


def test_the_heavier_seat_decides_subs_and_crossover(taken):
    found = [searched(taken, weighed(taken, weights)) for weights in HEAVY]
    first, other = (alignment.subs for alignment in found)
    assert first.settings != other.settings
    assert (first.delay_s, first.polarity) != (other.delay_s, other.polarity)


def test_the_heavier_seat_decides_shape_and_proof(taken):
    job_id = taken.jobs.copy(1).id
    seats = taken.jobs.get(job_id).plan.seats
    shapes, proofs = [], []
    for weights in HEAVY:
        seat_weighting = SeatWeighting(
            name="unequal", weights={seat.id: w for seat, w in zip(seats, weights, strict=True)}
        )
        taken.shaping.set_seat_weighting(job_id, seat_weighting)
        taken.finding.find(job_id)
        shapes.append(taken.shaping.view(job_id, "L").shape)
    alone = []
    for seat in seats:
        taken.shaping.set_seat_weighting(job_id, SeatWeighting(name="one", weights={seat.id: 1.0}))
        alone.append(taken.shaping.view(job_id, "L").shape.needs)
    inside = (GRID > 30) & (GRID < 300)
    for shape, mine, other in ((shapes[0], *alone), (shapes[1], *alone[::-1])):
        lack = shape.needs.weight @ shape.needs.error_db
        near, far = (np.abs(lack - first.weight @ first.error_db)[inside].mean() for first in (mine, other))
        assert near < 0.2 * far  # 5 % of the weight is the other seat's
    assert [band.filter for band in shapes[0].bands] != [band.filter for band in shapes[1].bands]
    # The proof averages by the same weights: before, of the round before, is the weighted energy mean of its spots.
    taken.loading.load(job_id, "A", "corrected")
    taken.loading.switch(job_id, "A")
    taken.rounds.new(job_id)
    taken.taking.run_rest(job_id)
    taken.sound.wait()
    for weights in HEAVY:
        seat_weighting = SeatWeighting(
            name="unequal", weights={seat.id: w for seat, w in zip(seats, weights, strict=True)}
        )
        taken.shaping.set_seat_weighting(job_id, seat_weighting)
        proofs.append(taken.proving.view(job_id).channels["L"].proof.after_db)
    at_one = [taken.proving.view(job_id, seat_id=seat.id).channels["L"].proof.after_db for seat in seats]
    for proof, mine, other in ((proofs[0], *at_one), (proofs[1], *at_one[::-1])):
        near, far = (
            np.abs((proof - proof[inside].mean()) - (first - first[inside].mean()))[inside].mean()
            for first in (mine, other)
        )
        assert near < 0.5 * far


def test_commands_weigh_spots_and_seats(tmp_path):
    rng = np.random.default_rng(2)
    files = []
    for spot in range(4):
        level = 6 * np.exp(-((np.log2(GRID / (60 if spot < 2 else 150)) / 0.3) ** 2)) + rng.normal(0, 0.1, GRID.size)
        path = tmp_path / f"{spot}.csv"
        rows = "\n".join(f"{f:.3f},{v:.3f}" for f, v in zip(GRID, level, strict=True))
        path.write_text("frequency_hz,level_db\n" + rows)
        files.append(str(path))
    strongest = []
    for weights in ("1,1,0.05,0.05", "0.05,0.05,1,1"):
        out = tmp_path / "out.json"
        assert main(["filters", *files, "--weights", weights, "--bands", "2", "--out", str(out)]) == 0
        rows = json.loads(out.read_text())["filters"]
        strongest.append(min(rows, key=lambda row: row["gain_db"])["frequency_hz"])
    assert_allclose(strongest, [60, 150], rtol=0.1)
