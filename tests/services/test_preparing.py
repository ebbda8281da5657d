"""Sample takes made in the background: whole, stoppable, and never in anybody's way."""

from dataclasses import replace

import pytest

from dolce.errors import Conflict
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services


@pytest.fixture
def job_id(services):
    job = services.jobs.create(JobDetails(name="Net loft"))
    services.room.lay_out_spots(job.id, "cluster", seat_id=1, count=2, spacing_m=0.2)
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    return job.id


def test_takes_come_by_themselves_and_are_those_of_a_pass(services, job_id):
    services.preparing.want([job_id])
    services.preparing.begin()
    services.preparing.wait()
    assert services.taking.board(job_id).taken == 4
    assert services.preparing.present is None
    assert services.sound.latest(job_id, "takes") is None  # it was no pass
    copied = services.jobs.copy(job_id, with_takes=False, name="By hand")
    services.taking.run_rest(copied.id)
    services.sound.wait()
    first, other = (services.taking.board(number).takes["L", 1] for number in (job_id, copied.id))
    assert first.arrival_s == pytest.approx(other.arrival_s, abs=120e-6)  # a seed, so a placement, of its own
    services.preparing.begin()  # nothing left to do
    assert services.preparing.present is None


def test_the_next_start_goes_on_where_this_one_ended(tmp_path):
    services = open_services(tmp_path)
    job = services.jobs.create(JobDetails(name="Barn"))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.preparing.want([job.id, 999])  # one of them is gone by then
    seen = []
    whole = services.taking.rehearse

    def until_two(job_id, *, on_progress, stopped):
        def counted(done, of):
            seen.append((done, of))
            on_progress(done, of)
            if done == 2:
                services.preparing._stop.set()

        whole(job_id, on_progress=counted, stopped=stopped)

    object.__setattr__(services.preparing, "_taking", type("Taking", (), {"rehearse": staticmethod(until_two)}))
    services.preparing.begin()
    services.preparing.wait()
    assert (services.taking.board(job.id).taken, seen[-1]) == (2, (2, len(job.channels) * len(job.spots)))
    services.close()
    again = open_services(tmp_path)
    again.preparing.begin()
    again.preparing.wait()
    board = again.taking.board(job.id)
    assert board.taken == board.wanted
    assert not (tmp_path / "preparing.json").exists()
    again.close()


def test_whoever_works_on_a_job_is_left_alone_and_the_rest_can_be_left_out(services, job_id):
    services.preparing.want([job_id])
    untouched = services.jobs.get(job_id).round_id

    def new_round(done, _of):
        if done == 1:
            services.rounds.new(job_id, name="Mine")

    services.taking.rehearse(job_id, on_progress=new_round, stopped=lambda: False)
    assert services.taking.board(job_id).taken == 0  # nothing came into the new round
    with services.context.look() as work:
        assert len(work.takes.latest(untouched)) == 1  # nor anything more into the old one
    services.preparing.give_up()
    services.preparing.begin()
    services.preparing.wait()
    assert services.taking.board(job_id).taken == 0


def test_a_real_rig_is_never_heard_without_sound(services, job_id):
    services.rigging.set_rig(job_id, hardware="sound card", card_name="Box", card_host="Host")
    with pytest.raises(Conflict, match="only the rehearsal rig"):
        services.taking.rehearse(job_id, on_progress=lambda *_: None, stopped=lambda: False)


def test_a_job_is_brought_to_its_report_and_one_that_somebody_aligns_is_left_to_them(services, job_id):
    other = services.jobs.copy(job_id, with_takes=False, name="Somebody's")
    services.taking.run_rest(other.id)
    services.sound.wait()
    services.aligning.use_proposal(other.id)
    services.preparing.want([job_id], to_the_end=[job_id, other.id])
    services.preparing.begin()
    services.preparing.wait()
    view = services.proving.view(job_id)
    assert view.needs == ""
    assert view.after_round.name == "Corrected"
    assert services.jobs.get(job_id).processor.active == "A"
    assert services.reporting.report(job_id).words.words
    assert not services.shaping.view(other.id).found


def test_the_round_through_the_correction_is_gone_on_with_at_the_next_start(services, job_id):
    services.preparing.want([job_id], to_the_end=[job_id])
    whole, seen = services.taking.rehearse, []

    def until_the_first_corrected(number, *, on_progress, stopped):
        def counted(done, of):
            on_progress(done, of)
            seen.append(done)
            if services.jobs.get(job_id).processor.active == "A" and done == 1:
                services.preparing._stop.set()

        whole(number, on_progress=counted, stopped=stopped)

    finishing = replace(services.preparing._finishing, taking=Through(services.taking, until_the_first_corrected))
    services.preparing._finishing = finishing
    services.preparing.begin()
    services.preparing.wait()
    board = services.taking.board(job_id)
    assert (board.round.name, board.taken) == ("Corrected", 1)
    services.preparing._finishing = replace(finishing, taking=services.taking)
    services.preparing.begin()
    services.preparing.wait()
    board = services.taking.board(job_id)
    assert (board.round.name, board.taken) == ("Corrected", board.wanted)


class Through:
    """Taking, with another way to rehearse."""

    def __init__(self, taking, rehearse):
        self._taking, self.rehearse = taking, rehearse

    def __getattr__(self, name):
        return getattr(self._taking, name)
