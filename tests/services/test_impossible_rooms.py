"""What the rehearsal can't simulate is said where it was asked for, with what to do."""

from dataclasses import replace

import pytest

from dolce.core.room import Reverberation
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic

PLAN = attic()
LEFT, RIGHT = PLAN.speakers


@pytest.mark.parametrize(
    ("plan", "message"),
    [
        (replace(PLAN, reverberation=Reverberation(typed_s=4.0)), "would ring for"),
        (replace(PLAN, reverberation=Reverberation(typed_s=0.05)), "simulation needs 60 ms"),
        (
            replace(PLAN, speakers=(LEFT, replace(RIGHT, place=replace(LEFT.place, x_m=LEFT.place.x_m + 0.1)))),
            "L and R stand 10 cm from each other",
        ),
        (replace(PLAN, spots=(replace(PLAN.spots[0], place=LEFT.place),)), "inside its box"),
    ],
)
def test_a_room_that_cannot_be_is_said_at_takes_and_at_the_line_check(services, plan, message):
    job_id = services.jobs.create(JobDetails(name="Loft"), plan=plan).id
    services.rigging.set_rig(job_id, pace="fast", sweep_seconds=1.0)
    for kind, begin in (("takes", services.taking.run_rest), ("lines", services.lines.run)):
        begin(job_id)
        services.sound.wait()
        ended = services.sound.latest(job_id, kind)
        assert ended.state == "failed"
        assert message in ended.message
        assert "Room page" in ended.message
    assert services.taking.board(job_id).taken == 0
