"""Copies for a re-check and for other loudspeakers, what drifted, and curves of two jobs over each other."""

import numpy as np
import pytest

from dolce.core.geometry import Point, RoomSize
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.errors import Conflict, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.load.audition import ListenOptions
from dolce.services.read.options import Compared, Place, ReadOptions
from dolce.services.wiring import open_services
from rooms import shaped_pair


@pytest.fixture
def services(tmp_path):
    opened = open_services(tmp_path / "data")
    yield opened
    opened.close()


@pytest.fixture(scope="module")
def pair(prepared):
    yield from shaped_pair(prepared)


def logbook(services, job_id):
    return [entry.text for entry in services.jobs.logbook(job_id)]


def test_other_loudspeakers_follow_the_room_until_it_is_changed_there(services):
    first = services.jobs.create(JobDetails(name="Loft"))
    other = services.jobs.copy_for_other_speakers(first.id)
    assert other.name == "Loft, other loudspeakers"
    third = services.jobs.copy_for_other_speakers(other.id)
    assert (other.follows, third.follows) == (first.id, first.id)
    services.room.move(other.id, "L", Point(x_m=1.0, y_m=0.6, z_m=1.1))
    services.room.add_seat(first.id, "Bench")
    for follower in (other, third):
        plan = services.jobs.get(follower.id).plan
        assert [seat.name for seat in plan.seats] == [seat.name for seat in services.jobs.get(first.id).plan.seats]
    # Its own loudspeakers stay, and moving them does not end it.
    assert services.jobs.get(other.id).plan.speaker("L").place == Point(x_m=1.0, y_m=0.6, z_m=1.1)
    assert services.jobs.get(other.id).follows == first.id
    services.room.undo(first.id)
    assert len(services.jobs.get(other.id).plan.seats) == 1
    services.room.add_seat(other.id, "Sofa")
    assert services.jobs.get(other.id).follows is None
    assert len(services.jobs.get(first.id).plan.seats) == 1
    services.room.add_seat(first.id, "Chair")
    assert [seat.name for seat in services.jobs.get(other.id).plan.seats][-1] == "Sofa"
    assert "this job's own from now on" in logbook(services, other.id)[-1]


def test_a_room_that_does_not_fit_the_other_loudspeakers_is_not_followed_and_that_is_told(services):
    first = services.jobs.create(JobDetails(name="Loft"))
    other = services.jobs.copy_for_other_speakers(first.id)
    back = services.jobs.get(first.id).plan.size
    services.room.move(other.id, "R", Point(x_m=back.width_m - 0.3, y_m=0.4, z_m=1.2))
    services.room.set_size(first.id, RoomSize(length_m=back.length_m, width_m=back.width_m - 0.4, height_m=2.5))
    kept = services.jobs.get(other.id)
    assert (kept.follows, kept.plan.size) == (None, back)
    assert "No longer follows the room of Loft, which was changed: speaker R" in logbook(services, other.id)[-1]


def test_a_job_follows_again_when_it_is_told_to_and_may_be_undone(services):
    first = services.jobs.create(JobDetails(name="Loft"))
    other = services.jobs.copy_for_other_speakers(first.id)
    services.room.add_seat(other.id, "Sofa")
    services.room.move(other.id, "L", Point(x_m=1.0, y_m=0.6, z_m=1.1))
    assert services.following.may_follow(other.id) == [(first.id, "Loft")]
    services.following.follow(other.id, first.id)
    job = services.jobs.get(other.id)
    assert (job.follows, len(job.plan.seats)) == (first.id, 1)
    assert job.plan.speaker("L").place == Point(x_m=1.0, y_m=0.6, z_m=1.1)
    assert "follow Loft until they are changed here" in logbook(services, other.id)[-1]
    services.room.add_seat(first.id, "Bench")
    assert services.jobs.get(other.id).plan.seats[-1].name == "Bench"
    assert services.following.may_follow(first.id) == []  # it is followed
    third = services.jobs.create(JobDetails(name="Elsewhere"))
    for follower, whom in ((first, third), (third, other), (third, third)):
        with pytest.raises(Conflict, match="can't follow"):
            services.following.follow(follower.id, whom.id)
    services.following.follow(other.id, None)
    assert services.jobs.get(other.id).follows is None
    services.room.undo(other.id)  # the step that brought the bench
    services.room.undo(other.id)  # and that of following
    assert [seat.name for seat in services.jobs.get(other.id).plan.seats][-1] == "Sofa"


def test_a_backup_of_the_follower_alone_follows_nobody(services):
    first = services.jobs.create(JobDetails(name="Loft"))
    other = services.jobs.copy_for_other_speakers(first.id)
    for jobs, follows in (([other.id], False), ([first.id, other.id], True)):
        services.backups.begin_backup(jobs)
        services.folder_work.wait()
        services.backups.begin_restore(services.backups.files()[0].name)
        services.folder_work.wait()
        back = max(services.jobs.all(), key=lambda job: job.id)
        assert (back.follows is not None) == follows
        if follows:
            assert back.follows == back.id - 1


def test_a_copy_for_a_recheck_goes_on_with_a_round_of_its_own_and_sees_what_drifted(pair):
    services, job_id = pair
    copy = services.jobs.copy_for_recheck(job_id)
    assert copy.name == "Two seats, re-check"
    view = services.proving.drift(copy.id)
    assert (view.now, view.rows) == (None, ())
    services.taking.run_rest(copy.id)
    services.sound.wait()
    view = services.proving.drift(copy.id)
    assert (view.then.name, view.now.name, view.same_state) == ("Untouched", "Re-check", True)
    # A microphone put back by hand, and nothing else.
    assert view.drifted == ()
    assert {row.spots for row in view.rows} == {4}
    # Somebody turned the left one down by 3 dB at its own knob since then.
    services.rounds.new(copy.id, name="Third visit")
    services.rigging.set_rig(copy.id, knobs_db={"L": -3.0})
    services.taking.run_rest(copy.id)
    services.sound.wait()
    view = services.proving.drift(copy.id)
    assert view.now.name == "Third visit"
    assert {row.channel: row.beyond_repeats for row in view.rows} == {"L": ("level",), "R": ()}
    assert view.rows[0].level_db == pytest.approx(-3.0, abs=0.5)
    with pytest.raises(InvalidValue, match="not of this job"):
        services.proving.drift(copy.id, now=10**6)


def test_curves_of_two_jobs_lie_over_each_other_at_the_seat_of_the_same_name(pair):
    services, job_id = pair
    other = services.jobs.copy(job_id)
    seat = services.jobs.get(job_id).plan.seats[1]
    view = services.reading.view(job_id, ReadOptions(compared=(Compared(job_id=other.id),), place=Place(seat=seat.id)))
    _, (_, beside, _) = view.picture
    assert (beside.job.name, beside.round.name) == (other.name, "Untouched")
    assert beside.round.id not in {round.id for round in view.rounds}
    assert view.differences_db[0] == pytest.approx(np.zeros(ANALYSIS_GRID_HZ.size), abs=1e-9)
    assert {round.id for round in services.reading.rounds_of(other.id)}.isdisjoint({round.id for round in view.rounds})
    assert (other.id, other.name) in view.others
    lonely = two_seats_taken_elsewhere(services)
    view = services.reading.view(job_id, ReadOptions(compared=(Compared(job_id=lonely),), place=Place(seat=seat.id)))
    assert "has no seat Bench" in view.beside[0].fault


def two_seats_taken_elsewhere(services):
    return services.jobs.create(JobDetails(name="Elsewhere")).id


def test_other_loudspeakers_of_the_room_are_heard_beside_these_at_equal_loudness(pair):
    services, job_id = pair
    other = services.jobs.copy_for_other_speakers(job_id)
    services.taking.run_rest(other.id)
    services.sound.wait()
    offered = services.listening.view(job_id).offered
    key = f"job-{other.id}-bypass"
    assert offered[key] == f"{other.name}: bypass"
    services.listening.begin(job_id, ListenOptions(compared=("corrected", key)))
    services.listening.wait(job_id)
    view = services.listening.view(job_id)
    assert view.work.fault == ""
    assert view.audition.match.off_db < 0.1
    assert view.stale == ()
