"""A pass waits, pauses, goes on, skips and repeats; what it says of itself while it does."""

import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import datetime

import pytest

from asking import client_of
from dolce.core.job import PassOptions
from dolce.core.response import Quality
from dolce.devices.interface import SoundStopped
from dolce.errors import Conflict
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sound.sound_work import SoundWork
from dolce.services.takes import taking


@pytest.fixture
def job_id(services):
    job = services.jobs.create(JobDetails(name="Loft"))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    return job.id


def until(condition):
    """Looked at until it is true, for at most 20 s."""
    for _ in range(2000):
        if condition():
            return
        threading.Event().wait(0.01)
    raise AssertionError("it did not come to that")


def started(services, job_id, steps, *, during=lambda number: None, **more):
    """A pass of silent steps; `during` is called inside each."""
    done = []

    def step(channel, spot, progress, stopped):
        during(len(done))
        if stopped():
            raise SoundStopped
        done.append((channel, spot))
        return lambda work, found: None

    services.sound.start(job_id, kind="takes", steps=steps, seconds_per_step=1, step=step, **more)
    return done


def test_a_pause_finishes_the_take_and_holds_before_the_next(services, job_id):
    done = started(services, job_id, [("L", 1), ("R", 1)], during=lambda n: services.sound.pause() if n == 0 else None)
    until(lambda: services.sound.running() and services.sound.running().done_steps == 1)
    running = services.sound.running()
    assert running.paused
    assert done == [("L", 1)]
    services.sound.go_on()
    assert services.sound.wait(20)
    assert done == [("L", 1), ("R", 1)]
    assert services.sound.latest(job_id, "takes").state == "done"


def test_a_wait_is_told_and_can_be_cut_short(services, job_id):
    done = started(services, job_id, [("L", 1), ("L", 2)], waits_s=[0, 60])
    until(lambda: services.sound.running() and services.sound.running().waiting_s > 50)
    assert services.sound.running().waits_left_s == pytest.approx(services.sound.running().waiting_s, abs=5)
    assert done == [("L", 1)]
    services.sound.go_on()
    assert services.sound.wait(20)
    assert done == [("L", 1), ("L", 2)]


def test_a_pause_within_a_wait_leaves_the_rest_of_the_wait(services, job_id):
    done = started(services, job_id, [("L", 1)], waits_s=[60])
    until(lambda: services.sound.running() and services.sound.running().waiting_s > 50)
    services.sound.pause()
    services.sound.go_on()
    assert not services.sound.running().paused
    assert services.sound.running().waiting_s > 50  # who went on may still be beside the microphone
    assert done == []
    services.sound.go_on()
    assert services.sound.wait(20)
    assert done == [("L", 1)]


def test_a_stop_ends_a_wait_and_a_pause(services, job_id):
    started(services, job_id, [("L", 1)], waits_s=[60])
    until(lambda: services.sound.running() and services.sound.running().waiting_s > 0)
    services.sound.pause()
    assert services.sound.stop() == "stopped"
    assert services.sound.latest(job_id, "takes").state == "stopped"


def test_a_skipped_step_is_left_out_and_the_pass_goes_on(services, job_id):
    done = started(services, job_id, [("L", 1), ("R", 1)], during=lambda n: services.sound.skip() if not n else None)
    # The step that was skipped found itself stopped; the one after it is asked once more, and skipped as well.
    assert services.sound.wait(20)
    assert done == []
    assert services.sound.latest(job_id, "takes").state == "done"


def test_chosen_rows_and_columns_are_taken_and_nothing_else(services, job_id):
    spots = [s.id for s in services.jobs.get(job_id).spots]
    services.taking.run(job_id, PassOptions(channels=("R",), spots=(spots[1],)))
    services.sound.wait(20)
    assert list(services.taking.board(job_id).takes) == [("R", spots[1])]
    with pytest.raises(Conflict, match="every take that was chosen"):
        services.taking.run(job_id, PassOptions(channels=("R",), spots=(spots[1],)))


def test_a_spoiled_take_is_repeated_as_often_as_was_chosen(services, job_id, monkeypatch):
    played = []
    whole = taking.found_take

    def spoiled(*args, **how):
        played.append(1)
        found = whole(*args, **how)
        clipped = Quality(signal_to_noise_db=40, peak_dbfs=0, clipped_samples=5)
        return replace(found, capture=replace(found.capture, quality=clipped))

    monkeypatch.setattr(taking, "found_take", spoiled)
    spot = services.jobs.get(job_id).spots[0].id
    for repeats, times in ((0, 1), (3, 4)):
        played.clear()
        services.taking.run(job_id, PassOptions(channels=("L",), spots=(spot,), repeats=repeats))
        services.sound.wait(20)
        assert len(played) == times


def test_what_is_run_while_the_end_of_the_last_pass_is_written_waits_for_it(services, job_id, monkeypatch):
    """Pages say that it has ended as soon as nothing sounds; whoever presses then is not refused."""
    written, may_end = threading.Event(), threading.Event()
    write_end = SoundWork._write_end

    def slowly(work, sounding):
        written.set()
        assert may_end.wait(20)
        write_end(work, sounding)

    monkeypatch.setattr(SoundWork, "_write_end", slowly)
    services.taking.run_spot(job_id, 1)
    assert written.wait(20)
    assert services.sound.running().state == "done"
    with ThreadPoolExecutor(1) as other:
        ran = other.submit(services.taking.run_spot, job_id, 2)
        with pytest.raises(TimeoutError):
            ran.result(timeout=0.05)
        may_end.set()
        ran.result(timeout=20)
    assert services.sound.wait(20)
    assert services.sound.latest(job_id, "takes").state == "done"


def test_what_a_look_says_of_a_pass_is_no_newer_than_the_takes_it_sees(services, job_id):
    """A page that saw the last take missing and the pass ended would offer to take it again, and be refused."""
    playing, go_on = threading.Event(), threading.Event()

    def last(_number):
        playing.set()
        assert go_on.wait(20)

    with services.context.look() as before:  # opened before it begins
        started(services, job_id, [("L", 1)], during=last)
        assert before.passes.running().done_steps == 0
        assert playing.wait(20)
        with services.context.look() as work:
            work.jobs.get(job_id)  # from here on it sees the store as it is now
            go_on.set()
            assert services.sound.wait(20)
            seen = work.passes.running()
            assert (seen.state, seen.done_steps) == ("running", 0)
        assert before.passes.running().state == "running"
    with services.context.look() as work:
        assert work.passes.running() is None
        assert work.passes.latest(job_id, "takes").state == "done"


def test_a_clock_that_jumps_changes_neither_what_counts_nor_its_order(services, job_id):
    spot = services.jobs.get(job_id).spots[0].id
    moments = iter([datetime(2026, 5, 1), datetime(1999, 1, 1), datetime(2050, 1, 1), datetime(1970, 1, 2)])
    clock = [datetime(2026, 4, 30)]
    object.__setattr__(services.context, "now", lambda: clock[0])
    numbers = []
    for clock[0] in moments:
        services.taking.repeat(job_id, "L", spot)
        services.sound.wait()
        take = services.taking.board(job_id).takes["L", spot]
        numbers.append((take.attempt, take.id))
        assert take.taken_at == clock[0]
    assert [attempt for attempt, _ in numbers] == [1, 2, 3, 4]
    assert numbers == sorted(numbers)  # the one that was made last counts, whatever it says
    attempts = [entry.text for entry in services.jobs.logbook(job_id) if entry.text.startswith("Take of L")]
    assert len(attempts) == 4
    assert services.taking.board(job_id).last_pass.state == "done"
    assert services.sound.running() is None
    services.backups.begin_backup([job_id])
    services.folder_work.wait()
    services.backups.begin_restore(services.backups.files()[0].name)
    services.folder_work.wait()
    assert services.folder_work.present.fault == ""
    assert client_of(services).get("/").status_code == 200
