"""Stop at random moments around the start of a pass, its sweep and its end: does silence follow, and the right answer?

`.venv/bin/python bench/break_stops.py [--short]`. The pages are asked as a browser asks them, in two threads.
"""

import random
import re
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from flask import request
from promises import SHORT, ended, line, note

from dolce.devices.rehearsal import RehearsalRig
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import Services, open_services
from dolce.web import create_app

STOPS = 4 if SHORT else 1000
LATEST_S = 0.1
_said = {
    "Sound stopped": "stopped",
    "It had just ended": "ended by itself",
    "Nothing was playing. What": "not begun",
    "Nothing was playing.": "nothing",
    "Silent.": "silent, and still reading",
}


class Rehearsal:
    """The rehearsal rig, telling when each of its blocks has left."""

    def __init__(self) -> None:
        self.left: list[float] = []
        whole = RehearsalRig.play_and_record

        def on_progress(rig, played, *, progress, **how):
            def block(fraction: float) -> None:
                self.left.append(time.monotonic())
                progress(fraction)

            return whole(rig, played, progress=block, **how)

        RehearsalRig.play_and_record = on_progress


def moments() -> list[float]:
    """Seconds from the press on Run to the press on Stop: most around the start, some in the sweep and at its end."""
    rng = random.Random(9)
    return [
        rng.uniform(0, 0.15)
        if (kind := rng.random()) < 0.7
        else rng.uniform(0.15, 1.5)
        if kind < 0.9
        else rng.uniform(1.9, 2.5)
        for _ in range(STOPS)
    ]


def message(text: str) -> str:
    """Which answer stands in a page."""
    return next((word for start, word in _said.items() if start in text), "something else")


def tried(services: Services, job_id: int) -> None:
    """Every moment, and what came of it."""
    rehearsal, arrived = Rehearsal(), threading.Event()
    app = create_app(services)

    @app.before_request
    def _run_has_arrived() -> None:
        if request.path.endswith("/repeat"):
            arrived.set()

    runner, stopper = app.test_client(), app.test_client()
    token = re.search(r'csrf-token" content="([^"]+)"', runner.get("/").text)[1]
    status: list[int] = []

    def press_run() -> None:
        answer = runner.post(
            f"/jobs/{job_id}/takes/L/1/repeat", data={"csrf_token": token}, headers={"HX-Request": "true"}
        )
        status.append(answer.status_code)

    answers, late, wrong, worst = Counter(), 0, 0, 0.0
    for after_s in moments():
        arrived.clear()
        rehearsal.left.clear()
        run = threading.Thread(target=press_run)
        run.start()
        arrived.wait()
        time.sleep(after_s)
        pressed = time.monotonic()
        answer = message(stopper.post("/sound/stop").text)
        run.join()
        services.sound.wait(10)
        after = max((moment - pressed for moment in rehearsal.left), default=0.0)
        worst = max(worst, after)
        late += after > LATEST_S
        last = services.taking.board(job_id).last_pass  # none yet, where the very first one never began
        state = last.state if last is not None else "none"
        answers[answer] += 1
        # Silence is what "nothing" and "not begun" promise: no block may leave after the press.
        right = {"stopped": state == "stopped", "ended by itself": state == "done"}.get(answer, after <= 0)
        if not right:
            wrong += 1
            note(f"  answered “{answer}”, the pass {state}, run {status[-1]}", f"last block {1000 * after:.0f} ms")
    line(
        f"{STOPS} stops: sound later than 100 ms after the press",
        f"{late}, latest {1000 * worst:.0f} ms",
        "0",
        late == 0,
        timed=True,
    )
    line("  answered otherwise than what happened", str(wrong), "0", wrong == 0)
    for word, count in answers.most_common():
        note(f"  answered “{word}”", str(count))


def main() -> int:
    """A small job in real time."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        job = services.jobs.create(JobDetails(name="Stops"))
        services.rigging.set_rig(job.id, pace="real time", sweep_seconds=1.0)
        tried(services, job.id)
        services.close()
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
