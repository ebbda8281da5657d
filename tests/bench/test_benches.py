"""What benches count rather than time is held by their short forms; of the others, all that they import is there.

Their own short forms take minutes together: `-m slow` runs them.
"""

import subprocess
import sys

import pytest

from benching import BENCH, run_bench

SCRIPTS = [path.stem for path in sorted(BENCH.glob("*.py")) if path.stem != "all" and "__main__" in path.read_text()]
# What these promise is counted, not timed: it holds on any machine, however busy.
COUNTED = ("break_commands", "break_input", "break_kills", "break_stops", "break_storage")
README = (BENCH.parent / "README.md").read_text()


def held(script, folder):
    code, printed, errors = run_bench(script, folder)
    assert code in (0, 1), errors[-2000:]
    assert printed.rstrip().endswith("missed (short)"), printed + errors[-2000:]
    return "MISSED" not in printed, printed


@pytest.mark.parametrize("script", COUNTED)
def test_what_the_short_form_of_a_bench_counts_is_held(script, tmp_path):
    holds, printed = held(script, tmp_path)
    assert holds, printed


@pytest.mark.parametrize("script", SCRIPTS)
def test_what_a_bench_imports_is_there(script, tmp_path):
    code, _, errors = run_bench(script, tmp_path, as_name="imported")
    assert code == 0, errors[-2000:]


@pytest.mark.slow
@pytest.mark.parametrize("script", [script for script in SCRIPTS if script not in COUNTED])
def test_the_short_form_of_every_bench_ends(script, tmp_path):
    held(script, tmp_path)


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
