"""What moving a loudspeaker would do, on Read: of which takes, how much, and what can't be told."""

from dataclasses import replace

import pytest

from asking import client_of
from dolce.errors import InvalidValue
from dolce.services.read.moving import STEP_M, Move
from dolce.services.read.options import Compared, ReadOptions


def test_the_best_of_four_moves_is_told_for_every_dip_of_surfaces(demo, demo_job):
    options = ReadOptions(round_id=1, front="L")
    view = demo.moving.view(demo_job, options, None)
    findings = demo.reading.view(demo_job, options).findings
    dips = [f for f in findings if f.size_db < 0 and f.cause and f.cause.kind == "boundary"]
    assert len(view.advices) == len(dips) > 2
    for advice in view.advices:
        if advice.move is not None:
            assert sorted(abs(by) for by in (advice.move.x_m, advice.move.y_m, advice.move.z_m)) == [0, 0, STEP_M]
            # What is told follows from that very move.
            again = demo.moving.view(demo_job, options, advice.move).moved.dip(advice.finding.frequency_hz)
            assert again == advice.dip
            assert again.shallower_db > 0
    assert view.chosen.round.id == 1


def test_the_place_follows_from_the_take_and_curves_beside_change_nothing(demo, demo_job):
    move = Move(x_m=0.1, y_m=-0.2)
    alone = demo.moving.view(demo_job, ReadOptions(round_id=1, front="L"), move)
    beside = demo.moving.view(demo_job, ReadOptions(round_id=1, front="L", compared=(Compared(round_id=2),)), move)
    assert (alone.moved.then_db == beside.moved.then_db).all()
    stands = demo.jobs.get(demo_job).speaker("L").place
    assert alone.place == replace(stands, x_m=round(stands.x_m + 0.1, 4), y_m=round(stands.y_m - 0.2, 4))
    assert move.words == "10 cm nearer to the right wall and 20 cm nearer to the front wall"


@pytest.mark.parametrize("move", [Move(y_m=-2.9), Move(z_m=2.5), Move(x_m=-2)])
def test_a_place_outside_the_room_is_refused_with_what_helps(demo, demo_job, move):
    with pytest.raises(InvalidValue, match="outside the room"):
        demo.moving.view(demo_job, ReadOptions(front="L"), move)


def test_the_page_says_what_was_typed_wrong_and_what_lacks(demo, demo_job):
    client = client_of(demo)
    page = client.get(f"/jobs/{demo_job}/read/moving?front=L&move_x=ten").text
    assert "is not a number" in page
    assert 'value="ten"' in page
    assert "out of range" in client.get(f"/jobs/{demo_job}/read/moving?front=L&move_y=900").text
    assert "was not taken alone" in client.get("/jobs/2/read/moving?front=L").text
    shown = client.get(f"/jobs/{demo_job}/read/moving?front=L&round=1&move_y=-20").text
    assert "20 cm nearer to the front wall" in shown
    assert "from the takes of round\n    Untouched" in shown or "from the takes of round Untouched" in shown
