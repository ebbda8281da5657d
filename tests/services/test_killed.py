"""A process that is killed in mid-pass."""

import signal
import sqlite3
import subprocess
import sys

from dolce.services.wiring import open_services

PROGRAM = """
import sys
from pathlib import Path
from dolce.services.jobs.job_keeping import JobDetails
from dolce.services.wiring import open_services
services = open_services(Path(sys.argv[1]))
job = services.jobs.create(JobDetails(name="Barn"))
services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
services.taking.run_rest(job.id)
while services.taking.board(job.id).taken < 2:
    pass
print("two are in", flush=True)
services.sound.wait()
"""


def test_whole_takes_only_are_left_and_the_pass_can_go_on(tmp_path):
    process = subprocess.Popen([sys.executable, "-c", PROGRAM, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert process.stdout.readline() == "two are in\n"
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()

    services = open_services(tmp_path)
    connection = sqlite3.connect(tmp_path / "dolce.sqlite")
    takes = connection.execute("SELECT count(*) FROM takes").fetchone()[0]
    whole = connection.execute("SELECT count(*) FROM takes JOIN samples ON samples_id = samples.id").fetchone()[0]
    steps = connection.execute("SELECT done_steps FROM passes").fetchone()[0]
    assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
    connection.close()
    assert 2 <= takes == whole == steps < 18
    board = services.taking.board(1)
    assert board.last_pass.state == "interrupted"
    assert board.taken == takes
    services.taking.run_spot(1, board.next_spot)
    services.sound.wait()
    assert services.taking.board(1).taken > takes
    services.close()
