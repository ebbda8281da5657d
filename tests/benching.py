"""A bench as a process of its own, without importing all of Dolce anew for each."""

import os
import runpy
import sys
from multiprocessing import get_context
from pathlib import Path

BENCH = Path(__file__).parents[1] / "bench"
# A server that has imported what benches need forks a process for each: a sixth of the time of their short forms.
_CONTEXT = get_context("forkserver")
_CONTEXT.set_forkserver_preload(["dolce.web.serving", "dolce.services.sample.demo"])


def run_bench(script: str, folder: Path, *, short: bool = True, as_name: str = "__main__") -> tuple[int, str, str]:
    """Exit code of a bench, what it printed, and what it said of errors; under another name
    than that of a script it is only imported."""
    outputs = [folder / name for name in ("printed", "errors")]
    run = _CONTEXT.Process(target=_as_script, args=(BENCH / f"{script}.py", short, as_name, *outputs))
    run.start()
    run.join()
    return run.exitcode, *(path.read_text() for path in outputs)


def _as_script(path: Path, short: bool, as_name: str, *outputs: Path) -> None:
    """As Python does it with a script: its folder comes first where modules are looked for."""
    for number, output in enumerate(outputs, start=1):
        os.dup2(os.open(output, os.O_WRONLY | os.O_CREAT), number)
    sys.argv = [str(path), *(["--short"] if short else [])]
    sys.path.insert(0, str(path.parent))
    runpy.run_path(str(path), run_name=as_name)
