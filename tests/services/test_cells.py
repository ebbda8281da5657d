"""Cells of the board: which attempt counts, and what a person says of it."""

import numpy as np
import pytest

from dolce.errors import InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.read.options import ReadOptions


@pytest.fixture
def twice(services):
    """A pair with two spots, all taken, L at spot 1 twice: services, job and the two attempts, the first first."""
    job = services.jobs.create(JobDetails(name="Twice"))
    services.room.lay_out_spots(job.id, "cluster", seat_id=1, count=2, spacing_m=0.3)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_rest(job.id)
    services.sound.wait()
    spot = services.jobs.get(job.id).spots[0].id
    services.taking.repeat(job.id, "L", spot)
    services.sound.wait()
    second, first = services.cells.view(job.id, "L", spot).attempts
    return services, job.id, spot, first, second


def average_of_l(services, job_id):
    curves = services.reading.view(job_id, ReadOptions(channels=("L",))).curves
    return [take.id for take in curves[0].takes], curves[0].average.level_db


def test_the_last_attempt_counts_until_an_older_one_is_put_back(twice):
    services, job_id, spot, first, second = twice
    assert services.cells.view(job_id, "L", spot).counts.id == second.id
    _, before = average_of_l(services, job_id)
    services.cells.put_back(job_id, first.id)
    assert services.cells.view(job_id, "L", spot).counts.id == first.id
    ids, after = average_of_l(services, job_id)
    assert first.id in ids
    assert second.id not in ids
    assert np.abs(after - before).max() > 0
    # What is taken from now on is meant to count.
    services.taking.repeat(job_id, "L", spot)
    services.sound.wait()
    assert services.cells.view(job_id, "L", spot).counts.id not in (first.id, second.id)


def test_a_clipped_attempt_does_not_take_the_place_of_a_good_one(twice):
    services, job_id, spot, _, second = twice
    with services.context.database.engine.begin() as connection:
        connection.exec_driver_sql(f"UPDATE takes SET clipped_samples = 9 WHERE id = {second.id}")
        connection.exec_driver_sql("UPDATE rounds SET edits = edits + 1")
    assert services.cells.view(job_id, "L", spot).counts.id != second.id


def test_a_take_that_is_left_out_counts_nowhere_and_its_cell_asks_for_nothing(twice):
    services, job_id, spot, _, second = twice
    services.cells.leave_out(job_id, second.id, "a door")
    ids, _ = average_of_l(services, job_id)
    assert second.id not in ids
    board = services.taking.board(job_id)
    assert board.takes["L", spot].word == "left out"
    assert board.taken == board.wanted
    assert board.next_spot is None
    services.cells.take_in(job_id, second.id)
    assert second.id in average_of_l(services, job_id)[0]
    with pytest.raises(InvalidValue, match="no reason"):
        services.cells.leave_out(job_id, second.id, "  ")


def test_a_deleted_take_gives_way_to_the_one_before_and_comes_back(twice):
    services, job_id, spot, first, second = twice
    services.cells.remove(job_id, second.id)
    assert services.cells.view(job_id, "L", spot).counts.id == first.id
    services.cells.remove(job_id, first.id)
    board = services.taking.board(job_id)
    assert ("L", spot) not in board.takes
    assert board.next_spot == spot
    assert [take.removed for take in services.cells.view(job_id, "L", spot).attempts] == [True, True]
    services.cells.bring_back(job_id, second.id)
    assert services.cells.view(job_id, "L", spot).counts.id == second.id


def test_notes_stay_with_their_take_and_strangers_are_refused(twice):
    services, job_id, spot, first, second = twice
    services.cells.note(job_id, first.id, " window open ")
    notes = {take.id: take.note for take in services.cells.view(job_id, "L", spot).attempts}
    assert notes == {first.id: "window open", second.id: ""}
    assert "noted: window open" in services.jobs.logbook(job_id)[-1].text
    other = services.jobs.create(JobDetails(name="Other"))
    with pytest.raises(InvalidValue, match="not of this job"):
        services.cells.remove(other.id, first.id)
