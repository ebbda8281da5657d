"""Pages of the full job: 15 rows, 24 spots, ten rounds, beside a small one; time, size and queries of each.

`.venv/bin/python bench/full_job_figures.py [--short]`; short builds two rounds of a pair.
"""

import resource
import statistics
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import numpy as np
from promises import SHORT, ended, line
from sqlalchemy import event

from dolce.core.job import Job
from dolce.core.processor import ProcessorState
from dolce.core.room import RoomPlan
from dolce.core.signals import excitation_values
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.sample.demo_rooms import attic, barn
from dolce.services.takes.found_take import places_of
from dolce.services.takes.take_making import captured, stimulus_of, sweep_of
from dolce.services.wiring import Services, open_services
from dolce.web import create_app
from dolce.web.serving import settle

ROUNDS = 2 if SHORT else 10
RUNS = 1 if SHORT else 15
PAGES = (
    "room",
    "rig",
    "takes",
    "takes/L/1/cell",
    "read",
    "read?smoothing=none&channel=L",
    "read?layout=each",
    *(f"read?view={view}" for view in ("seats", "phase", "delay", "impulse", "energy", "slices", "map", "times")),
    *(f"align?sheet={sheet}" for sheet in ("alignment_table", "subs", "crossover", "proof")),
    "shape",
    "load",
    "prove",
)
MOST_MS, MOST_KB = 100.0, 150.0
POLL_MS, POLL_KB = 5.0, 3.0


def full() -> RoomPlan:
    """The barn; in short the attic with its first two spots."""
    return barn() if not SHORT else replace(attic(), spots=attic().spots[:2])


def filled(services: Services, job: Job, rounds: int, *, recording: bytes = b"raw") -> None:
    """Rounds with a take in every cell: one response, with other levels in each."""
    sweep = sweep_of(job.rig)
    capture, levels = captured(stimulus_of(sweep) * 0.3, sweep=sweep, microphone=None)
    rng, points = np.random.default_rng(4), levels.level_db.size
    for number in range(rounds):
        with services.context.change() as work:
            present = work.jobs.get(job.id)
            made = work.takes.add_round(job.id, name=f"Pass {number + 1}", at=services.context.now())
            state = ProcessorState() if number < rounds - 1 else present.processor
            work.takes.set_round_state(made.id, state, name=made.name)
            work.jobs.set_round(job.id, made.id)
            for feed in job.feeds:
                for spot in job.spots:
                    work.takes.add(
                        round_id=made.id,
                        channel=feed.code,
                        spot_id=spot.id,
                        at=services.context.now(),
                        source="rig",
                        capture=replace(capture, response=capture.response),
                        levels=replace(
                            levels,
                            level_db=levels.level_db
                            + np.interp(
                                np.arange(points), np.arange(0, points, 20), rng.normal(0, 3, -(-points // 20))
                            ),
                        ),
                        arrival_known=True,
                        recording=recording,
                        recording_name="x.flac",
                        played=excitation_values(sweep),
                        sounded=feed.channels if feed.together else (),
                        places=places_of(job, feed, spot.id),
                    )
                    work.logbook.add(job.id, f"Take of {feed.label} at spot {spot.number}.", at=services.context.now())
        if number == rounds - 2:
            services.aligning.use_proposal(job.id)
            services.finding.find(job.id)
            services.loading.load(job.id, "A", "corrected")
            services.loading.switch(job.id, "A")


@contextmanager
def counted(services: Services) -> Iterator[list[int]]:
    """How many statements are sent to the database."""
    found = [0]

    def count(*_: object) -> None:
        found[0] += 1

    engine = services.context.database.engine
    event.listen(engine, "before_cursor_execute", count)
    try:
        yield found
    finally:
        event.remove(engine, "before_cursor_execute", count)


def looked_at(services: Services, job_id: int, name: str) -> None:
    """Every page of a job as a fragment."""
    client = create_app(services).test_client()
    headers = {"HX-Request": "true"}
    for page in PAGES:
        times = []
        for _ in range(RUNS):
            begun = time.perf_counter()
            with counted(services) as queries:
                answer = client.get(f"/jobs/{job_id}/{page}", headers=headers)
            times.append(1000 * (time.perf_counter() - begun))
            assert answer.status_code == 200, (page, answer.text[:300])
        worst = sorted(times)[int(0.95 * (len(times) - 1))]
        size = len(answer.data) / 1000
        line(
            f"{name}, {page}",
            f"{statistics.median(times):.0f} ms, 95 %: {worst:.0f}, {size:.0f} kB, {queries[0]} queries",
            f"{MOST_MS:.0f} ms, {MOST_KB:.0f} kB",
            worst < MOST_MS and size < MOST_KB,
        )


def looked_ahead(services: Services, job_id: int) -> None:
    """The first look at an average over all spots that takes some time for each, after a look at single takes."""
    client, headers = create_app(services).test_client(), {"HX-Request": "true"}
    client.get(f"/jobs/{job_id}/read?view=energy", headers=headers)
    begun = time.perf_counter()
    services.context.background.wait()
    behind = time.perf_counter() - begun
    begun = time.perf_counter()
    answer = client.get(f"/jobs/{job_id}/read?view=times&over=average", headers=headers)
    took = 1000 * (time.perf_counter() - begun)
    assert answer.status_code == 200
    line(
        "  first look at averaged decay times",
        f"{took:.0f} ms, found in {behind:.1f} s behind the page",
        "200 ms",
        took < 200,
    )


def polled(services: Services, job_id: int) -> None:
    """What the page asks for while sound runs."""
    client = create_app(services).test_client()
    services.rigging.set_rig(job_id, pace="real time", sweep_seconds=20.0)
    services.rounds.new(job_id)
    services.taking.run_rest(job_id)
    try:
        board, times = services.taking.board(job_id), []
        address = f"/jobs/{job_id}/takes/progress?step=1&spot={board.last_pass.steps[0][1]}"
        for _ in range(RUNS * 2):
            begun = time.process_time()
            answer = client.get(address, headers={"HX-Request": "true"})
            times.append(1000 * (time.process_time() - begun))
            time.sleep(0.05)
        assert answer.status_code == 200, answer.text[:200]
        median, size = statistics.median(times), len(answer.data) / 1000
        line(
            "  while sound runs, each look at it",
            f"{median:.1f} ms, {size:.1f} kB",
            f"{POLL_MS:.0f} ms, {POLL_KB:.0f} kB",
            median < POLL_MS and size < POLL_KB,
        )
    finally:
        services.sound.stop()


def main() -> int:
    """The full job and a small one, on one folder."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        settle()  # as the server does before it answers
        jobs = [("attic", attic(), 5), ("barn", full(), ROUNDS)] if not SHORT else [("attic", full(), ROUNDS)]
        for name, plan, rounds in jobs:
            job = services.jobs.create(JobDetails(name=name), plan=plan)
            services.rigging.set_rig(job.id, pace="fast")
            filled(services, services.jobs.get(job.id), rounds)
            takes = rounds * len(services.jobs.get(job.id).asked)
            looked_ahead(services, job.id)
            looked_at(services, job.id, f"{takes} takes")
            polled(services, job.id)
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        line("memory of the whole process at its highest", f"{peak:.0f} MB", "300 MB", peak < 300)
        services.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
