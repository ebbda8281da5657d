"""Kill the application at random moments of a pass: is everything that it said it kept still there, whole and readable?

`.venv/bin/python bench/break_kills.py [--short]`.
"""

import random
import select
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from promises import SHORT, ended, line

from dolce.services.jobs.folder_check import check_folder
from dolce.services.wiring import open_services

KILLS = 3 if SHORT else 84
PROGRAM = """
import sys
from pathlib import Path
from dolce.services.jobs.job_keeping import JobWish
from dolce.services.wiring import open_services
services = open_services(Path(sys.argv[1]))
jobs = services.jobs.all()
if not jobs:
    job = services.jobs.create(JobWish(name="Kills"))
    services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
job = services.jobs.all()[0]
print("begun", flush=True)
taken = 0
while True:
    if not services.sound.running():
        services.taking.new_round(job.id)
        services.taking.run_rest(job.id)
    with services.context.look() as work:
        now = sum(1 for _ in work.takes.of_job(job.id))
    if now != taken:
        taken = now
        print(taken, flush=True)
"""


def killed(folder: Path, after_s: float) -> int:
    """Run until so long after it began, kill it; how many takes it had said to be kept."""
    process = subprocess.Popen([sys.executable, "-c", PROGRAM, str(folder)], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline() == "begun\n"
    deadline, said = time.monotonic() + after_s, 0
    while (left := deadline - time.monotonic()) > 0:
        if select.select([process.stdout], [], [], left)[0]:
            said = int(process.stdout.readline())
    process.send_signal(signal.SIGKILL)
    rest = process.communicate()[0].split()
    return int(rest[-1]) if rest else said


def main() -> int:
    """All kills on one folder, so that each start meets what the last kill left."""
    rng = random.Random(4)
    lost = unreadable = running = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "data"
        for _ in range(KILLS):
            said = killed(folder, rng.uniform(0.05, 1.5))
            report = check_folder(folder)
            lost += max(0, said - report.takes)
            unreadable += len(report.faults)
            services = open_services(folder)
            running += services.taking.board(1).last_pass is not None and (
                services.taking.board(1).last_pass.state == "running"
            )
            services.close()
    line(f"{KILLS} kills: takes that were said to be kept and are gone", str(lost), "0", lost == 0)
    line("  things that can't be read, or changed", str(unreadable), "0", unreadable == 0)
    line("  passes that still count as running afterwards", str(running), "0", running == 0)
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
