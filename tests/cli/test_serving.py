"""The application as a process: it starts, answers, and ends in silence."""

import signal
import subprocess
import sys
import urllib.request

import pytest

from dolce.services.wiring import open_services


def in_the_background():
    """What a shell does for a script's background: interrupts are ignored from the start."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


@pytest.mark.parametrize(
    ("by", "started"), [(signal.SIGTERM, None), (signal.SIGINT, None), (signal.SIGINT, in_the_background)]
)
def test_it_answers_and_ends_without_a_word_when_it_is_told_to(tmp_path, by, started):
    open_services(tmp_path).close()  # no first start, so no sample jobs
    run = subprocess.Popen(
        [sys.executable, "-m", "dolce", "serve", "--port", "0", "--data", str(tmp_path)],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        preexec_fn=started,
    )
    address = run.stdout.readline().split()[3]
    with urllib.request.urlopen(address, timeout=20) as page:
        assert page.status == 200
    run.send_signal(by)
    _, message = run.communicate(timeout=30)
    assert message == ""
    assert run.returncode == 0
    open_services(tmp_path).close()  # and the folder is free
