"""Searches behind the pages, begun by many presses at once."""

import threading
from concurrent.futures import ThreadPoolExecutor
from functools import partial

from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic
from dolce.services.searches import ReportedSearch, Searches


def pressed_at_once(press, times=20):
    """The press, by so many threads that wait for each other."""
    gate = threading.Barrier(times)

    def item(k):
        gate.wait()
        press(k)

    with ThreadPoolExecutor(times) as pool:
        list(pool.map(item, range(times)))  # raises what any of them raised


def until_stopped(begun):
    def task(on_progress):
        begun.append(threading.current_thread())
        while True:
            on_progress(0.5)
            threading.Event().wait(0.001)

    return task


def begin(searches, task, *, asked):
    search = ReportedSearch()
    searches.begin(1, search, partial(search.run, task), name="s", asked=asked)


def test_twenty_presses_for_the_same_begin_one_search():
    searches, begun = Searches(), []
    pressed_at_once(lambda k: begin(searches, until_stopped(begun), asked="the same"))
    assert searches.of(1).running
    searches.stop(1)
    assert len(begun) == 1
    assert searches.of(1).stopped
    # Once it has ended, a press counts again.
    begin(searches, lambda on_progress: on_progress(1.0), asked="the same")
    searches.wait(1)
    assert searches.of(1).done
    assert not searches.of(1).stopped


def test_twenty_presses_for_different_things_leave_one_search_and_no_fault():
    searches, begun = Searches(), []
    pressed_at_once(lambda k: begin(searches, until_stopped(begun), asked=k))
    assert searches.of(1).running
    assert sum(thread.is_alive() for thread in begun) <= 1  # the others ended before the next began
    searches.close()
    assert not any(thread.is_alive() for thread in begun)


def test_stops_and_starts_at_once_are_no_fault():
    searches, begun = Searches(), []

    def press(k):
        if k % 2:
            searches.stop(1)
        else:
            begin(searches, until_stopped(begun), asked=k)

    pressed_at_once(press)
    searches.close()
    assert not any(thread.is_alive() for thread in begun)


def test_find_that_is_pressed_twenty_times_looks_once(services):
    job = services.jobs.create(JobDetails(name="Pair"), plan=attic())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_spot(job.id, job.spots[0].id)
    services.sound.wait()
    pressed_at_once(lambda k: services.finding.begin_find(job.id))
    services.finding.searches.wait(job.id)
    assert services.finding.searches.of(job.id).fault == ""
    found = [entry for entry in services.jobs.logbook(job.id) if entry.text.startswith("Filters found")]
    assert len(found) == 1


def test_find_begins_again_where_a_take_or_an_edit_came_in_between(services, monkeypatch):
    job = services.jobs.create(JobDetails(name="Pair"), plan=attic())
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
    services.taking.run_spot(job.id, job.spots[0].id)
    services.sound.wait()
    begun = []
    monkeypatch.setattr(services.finding, "_find", lambda _, on_progress: until_stopped(begun)(on_progress))

    def presses_begin(count):
        for _ in range(2):
            services.finding.begin_find(job.id)
        for _ in range(5000):
            if len(begun) >= count:
                break
            threading.Event().wait(0.001)
        assert len(begun) == count

    presses_begin(1)
    services.taking.run_spot(job.id, job.spots[1].id)
    services.sound.wait()
    presses_begin(2)
    services.targets.use_level(job.id, -3.0)
    presses_begin(3)
    services.finding.searches.stop(job.id)
