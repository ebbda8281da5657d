"""A stop that is pressed holds: for what plays, and for what was being asked for. Benches: bench/break_stops.py."""

import sqlite3
import threading
from contextlib import closing

import pytest
from sqlalchemy import event

from dolce.devices.interface import nothing_sounds, sound_begins
from dolce.devices.rehearsal import RehearsalRig
from dolce.errors import Conflict
from dolce.services.jobs.job_keeping import JobDetails


@pytest.fixture
def job_id(services):
    job = services.jobs.create(JobDetails(name="Loft"))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    return job.id


@pytest.fixture
def sounded(monkeypatch):
    """How often the rehearsal rig has begun to play something, stopped or not."""
    begun = []
    whole = RehearsalRig.play_and_record

    def noted(rig, played, *, progress, stopped, **how):
        return whole(rig, played, progress=lambda part: begun.append(part) or progress(part), stopped=stopped, **how)

    monkeypatch.setattr(RehearsalRig, "play_and_record", noted)
    return begun


def test_a_stop_between_the_press_on_run_and_the_pass_holds_for_it(services, job_id, sounded):
    with services.context.sounding.asking():  # the request has arrived and is being read
        assert services.sound.stop() == "not begun"
        with pytest.raises(Conflict, match="stop was pressed before it began"):
            services.taking.run_spot(job_id, 1)
    assert services.sound.running() is None
    assert sounded == []
    services.taking.run_spot(job_id, 1)  # asked for after the stop: it runs
    services.sound.wait(20)
    assert sounded != []


def test_a_stop_at_the_very_moment_a_pass_begins_ends_it_before_any_sound(services, job_id, sounded):
    message = []
    pressing = threading.Thread(target=lambda: message.append(services.sound.stop()))

    def step(*_):
        raise AssertionError("the step was run")

    services.sound.start(
        job_id,
        kind="takes",
        steps=[("L", 1)],
        seconds_per_step=1,
        step=step,
        before=lambda: (pressing.start(), pressing.join()),
    )
    services.sound.wait(20)
    # The pass is in the store by then, but nothing plays yet; the stop holds for it all the same.
    assert message == ["nothing"]
    assert services.sound.latest(job_id, "takes").state == "stopped"
    assert sounded == []


def test_each_stop_says_what_it_found(services, job_id):
    assert services.sound.stop() == "nothing"
    playing, go_on = threading.Event(), threading.Event()

    def deaf(_channel, _spot, _progress, _stopped):
        playing.set()
        go_on.wait(20)
        return lambda _work: None

    services.sound.start(job_id, kind="takes", steps=[("L", 1)], seconds_per_step=1, step=deaf)
    playing.wait(20)
    assert services.sound.stop(within_s=0.05) == "not silent"  # a device that does not answer
    go_on.set()
    services.sound.wait(20)

    services.rigging.set_rig(job_id, pace="real time")
    assert services.taking.run_spot(job_id, 1).state == "running"
    while not services.context.sounding.present.fraction:  # until it sounds
        pass
    now = services.sound.running()
    assert (now.state, now.kind, now.job_id) == ("running", "takes", job_id)
    assert services.sound.stop() == "stopped"
    assert services.taking.board(job_id).last_pass.state == "stopped"


def test_a_stop_is_answered_when_nothing_sounds_however_long_what_was_heard_is_read(services, job_id):
    silent, go_on = threading.Event(), threading.Event()

    def reading(_channel, _spot, _progress, _stopped):
        sound_begins()
        nothing_sounds()
        silent.set()
        go_on.wait(20)
        return lambda _work: None

    services.sound.start(job_id, kind="takes", steps=[("L", 1)], seconds_per_step=1, step=reading)
    silent.wait(20)
    assert services.sound.stop() == "quiet"
    assert not go_on.is_set()
    begun = []
    next_one = threading.Thread(target=lambda: begun.append(services.taking.run_spot(job_id, 1)))
    next_one.start()  # waits for the end of what is read, and is not refused
    go_on.set()
    next_one.join(20)
    assert len(begun) == 1
    services.sound.wait(20)


def test_the_rehearsal_sounds_only_while_it_plays(services, job_id, monkeypatch):
    computing, go_on = threading.Event(), threading.Event()
    whole = RehearsalRig._recorded

    def slow(*asked):
        computing.set()
        go_on.wait(20)
        return whole(*asked)

    monkeypatch.setattr(RehearsalRig, "_recorded", slow)
    services.rigging.set_rig(job_id, pace="real time")
    services.taking.run_spot(job_id, 1)
    computing.wait(20)
    assert services.sound.stop() == "quiet"  # nothing has left yet, and nothing will
    go_on.set()
    services.sound.wait(20)
    assert services.taking.board(job_id).takes == {}


def test_a_pass_whose_end_can_not_be_written_down_has_ended_all_the_same(services, job_id):
    """The database is held longer than anybody waits for it, as by a backup."""
    engine = services.context.database.engine
    with engine.connect() as connection:  # the pool hands this very connection on
        connection.exec_driver_sql("PRAGMA busy_timeout = 50")
    reached, go_on = threading.Event(), threading.Event()

    def step(*_):
        reached.set()
        go_on.wait(20)
        return lambda _work: None

    services.sound.start(job_id, kind="takes", steps=[("L", 1), ("R", 1)], seconds_per_step=1, step=step)
    reached.wait(20)
    file = services.folder / "dolce.sqlite"
    with closing(sqlite3.connect(file, isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        go_on.set()
        assert services.sound.wait(40)
        assert services.sound.running() is None
        last = services.sound.latest(job_id, "takes")
        assert last.state == "failed"
        assert "held by something else" in last.message
        assert "Everything kept before is safe" in last.message
        other.execute("ROLLBACK")
    services.taking.run_spot(job_id, 1)  # no restart is needed
    services.sound.wait(20)
    assert services.taking.board(job_id).last_pass.state == "done"
    with closing(sqlite3.connect(file)) as raw:  # and the end of the first one is written by now
        assert raw.execute("SELECT state FROM passes ORDER BY id").fetchall() == [("failed",), ("done",)]


def test_a_full_disk_ends_the_pass_in_words_and_the_next_one_runs(services, job_id):
    services.taking.run_spot(job_id, 1)
    services.sound.wait(20)
    before = services.taking.board(job_id).taken
    engine = services.context.database.engine
    reached, go_on = threading.Event(), threading.Event()
    whole = services.taking._take

    def slow(*how, **more):
        keep = whole(*how, **more)
        reached.set()
        go_on.wait(20)
        return keep

    services.taking._take = slow
    services.taking.run_spot(job_id, 2)
    reached.wait(20)

    def full(connection, *_):
        # SQLite's own way to say that no page more fits; it takes the present size for the 1.
        connection.execute("PRAGMA max_page_count = 1")

    event.listen(engine, "checkout", full)
    go_on.set()
    assert services.sound.wait(20)
    board = services.taking.board(job_id)
    assert board.last_pass.state == "failed"
    assert "the disk is full" in board.last_pass.message
    assert "Everything kept before is safe" in board.last_pass.message
    assert board.taken == before
    event.remove(engine, "checkout", full)
    engine.dispose()  # room again
    services.taking.run_spot(job_id, 2)
    services.sound.wait(20)
    assert services.taking.board(job_id).taken == 2 * before


def test_a_row_without_a_thread_is_interrupted(services, job_id):
    with services.context.change() as work:
        work.passes.start(job_id, kind="takes", steps=[("L", 1)], seconds_per_step=1, at=services.context.now())
    assert services.sound.running() is None
    assert services.taking.board(job_id).last_pass.state == "interrupted"
    services.taking.run_spot(job_id, 1)
    services.sound.wait(20)
    assert services.taking.board(job_id).last_pass.state == "done"


@pytest.mark.parametrize(
    "change",
    [
        lambda room, job: room.lay_out_spots(job, "cluster", seat_id=1, count=3, spacing_m=0.2),
        lambda room, job: room.remove_spot(job, 9),
        lambda room, job: room.add_spot(job, 1),
        lambda room, job: room.set_layout(job, "5.1", subs=1),
        lambda room, job: room.add_seat(job, "Bench"),
        lambda room, job: room.set_seat(job, 1, name="Desk", weight=2, main=True),
        lambda room, job: room.set_speaker(job, "L", output=7),
    ],
)
def test_speakers_seats_and_spots_stay_while_a_pass_runs_on_them(services, job_id, change):
    reached, go_on = threading.Event(), threading.Event()

    def step(*_):
        reached.set()
        go_on.wait(20)
        return lambda _work: None

    services.sound.start(job_id, kind="takes", steps=[("L", 1)], seconds_per_step=1, step=step)
    reached.wait(20)
    before = services.jobs.get(job_id).plan
    with pytest.raises(Conflict, match="sound is playing in this job"):
        change(services.room, job_id)
    services.room.set_mirror(job_id, not before.mirror_pairs)  # what no take hangs on may change
    assert services.jobs.get(job_id).plan.spots == before.spots
    go_on.set()
    services.sound.wait(20)
    change(services.room, job_id)
    assert services.jobs.get(job_id).plan != before
