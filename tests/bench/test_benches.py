"""Every bench still works: its short form ends, prints promises, and what has nothing to do with time is held."""

import subprocess
import sys

import pytest

from benching import BENCH, run_bench

SCRIPTS = [path.stem for path in sorted(BENCH.glob("*.py")) if path.stem != "all" and "__main__" in path.read_text()]
# What these promise is counted, not timed: it holds on any machine, however busy.
COUNTED = ("break_commands", "break_input", "break_kills", "break_storage")
README = (BENCH.parent / "README.md").read_text()


@pytest.mark.parametrize("script", SCRIPTS)
def test_the_short_form_of_every_bench_ends_and_what_it_counts_is_held(script, tmp_path):
    code, printed, errors = run_bench(script, tmp_path)
    assert code in (0, 1), errors[-2000:]
    assert printed.rstrip().endswith("missed (short)"), printed + errors[-2000:]
    if script in COUNTED:
        assert code == 0, printed
    if script == "break_stops":  # stops are answered by what happened, however long that took
        answered = next(line for line in printed.splitlines() if "answered otherwise" in line)
        assert answered.startswith("held"), printed


@pytest.mark.slow
@pytest.mark.parametrize("script", [script for script in SCRIPTS if script.startswith("break_")])
def test_what_tries_to_break_it_breaks_nothing(script, tmp_path):
    code, printed, errors = run_bench(script, tmp_path, short=False)
    assert code == 0, printed + errors[-2000:]


def test_one_command_runs_all_and_the_readme_names_it(tmp_path):
    assert "bench/all.py" in README
    failing = tmp_path / "bench"
    failing.mkdir()
    for name in ("all", "promises"):
        (failing / f"{name}.py").write_text((BENCH / f"{name}.py").read_text())
    end = "if __name__ == '__main__':\n    raise SystemExit(ended())\n"
    (failing / "one.py").write_text(f"from promises import *\nline('a', '1', '2', False)\n{end}")
    (failing / "two.py").write_text("raise RuntimeError('broke')  # __main__\n")
    (failing / "three.py").write_text(f"from promises import *\nline('a', '1', '1', True)\n{end}")

    def code(*names: str) -> int:
        return subprocess.run([sys.executable, failing / "all.py", *names], capture_output=True).returncode

    assert [code("three"), code("one"), code("two"), code()] == [0, 1, 1, 1]
