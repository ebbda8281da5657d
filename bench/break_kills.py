"""Kill the application at random moments of all that keeps something: is what it said it kept there, whole, readable?

`.venv/bin/python bench/break_kills.py [--short] [KIND ...]`. Passes, live sound, saves, imports, loads, backups, old
folders and the very first start, in two lines of work beside each other; after most of the kills the log is cut off
besides, as a loss of power does it.
"""

import os
import random
import select
import signal
import sys
import tempfile
import time
import traceback
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

from killed_work import KINDS, FirstStart, torn, torn_wrong
from promises import SHORT, ended, line, note

KILLS = len(KINDS) - 1 if SHORT else 1000  # the first start takes long; tests/services has it
IN_ONE_FOLDER = 25  # each start meets what the last kill left
LONG_FIRST_START = 40  # kills while the sample jobs are made, which takes long


def killed(kind, folder: Path, after_s: float) -> list[str]:
    """Let it work until so long after it began, kill it; what it said."""
    heard, on_progress = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(heard)
        code = 1
        try:
            kind.work(folder, lambda text: os.write(on_progress, f"{text}\n".encode()))
            code = 0
        except BaseException:
            traceback.print_exc()
        os._exit(code)
    os.close(on_progress)
    message, open_ = b"", True
    deadline = None if kind.begins else time.monotonic() + after_s
    while open_ and (deadline is None or (left := deadline - time.monotonic()) > 0):
        if select.select([heard], [], [], None if deadline is None else left)[0]:
            piece = os.read(heard, 4096)
            message, open_ = message + piece, bool(piece)
            if deadline is None and b"\n" in message:
                deadline = time.monotonic() + after_s
    os.kill(child, signal.SIGKILL)
    _, status = os.waitpid(child, 0)
    while piece := os.read(heard, 4096):
        message += piece
    os.close(heard)
    failed = os.WIFEXITED(status) and os.WEXITSTATUS(status)
    return [*(word for word in message.decode().split() if word != "begun"), *(["failed"] if failed else [])]


def many(kind_index: int, count: int, seed: int, latest_s: float | None) -> tuple[int, int, list[str], list[str]]:
    """Kills of one kind in one folder: how many, how many torn besides, what was wrong, and in torn copies."""
    rng = random.Random(seed)
    kind, wrong, wrong_torn, cut = KINDS[kind_index](), [], [], 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "data"
        kind.prepare(folder)
        for _ in range(count):
            kind.before(folder)
            message = killed(kind, folder, rng.uniform(0.0, latest_s or kind.latest_s))
            if "failed" in message:
                wrong.append("it ended by itself with a fault")
                message.remove("failed")
            try:
                if (folder / "dolce.sqlite-wal").exists() and kind.begins:
                    cut += 1
                    torn(folder, Path(name) / "torn", rng.random())
                    wrong_torn += torn_wrong(Path(name) / "torn")
                wrong += kind.wrong(folder, message)
            except Exception as error:
                wrong.append(f"{type(error).__name__}: {str(error)[:200]}")
            finally:
                os.system(f"rm -rf '{name}/torn'")
    return count, cut, wrong, wrong_torn


def plan() -> list[tuple[int, int, int, float | None]]:
    """Kinds in pieces, the slow ones first."""
    first = KINDS.index(FirstStart)
    if SHORT:
        return [(index, 1, 100 * index, None) for index in range(len(KINDS)) if index != first]
    pieces = [(first, 10, 900 + k, 8.0) for k in range(0, LONG_FIRST_START, 10)]
    for index, kind in enumerate(KINDS):
        wanted = round(KILLS * kind.share) - (LONG_FIRST_START if index == first else 0)
        pieces += [
            (index, min(IN_ONE_FOLDER, wanted - k), 100 * index + k, None) for k in range(0, wanted, IN_ONE_FOLDER)
        ]
    return pieces


def main() -> int:
    """All kinds."""
    names = [word for word in sys.argv[1:] if not word.startswith("-")]
    pieces = [piece for piece in plan() if not names or any(name in KINDS[piece[0]].name for name in names)]
    of_kind: dict[str, list] = {KINDS[index].name: [0, 0, [], []] for index, *_ in pieces}
    with ProcessPoolExecutor(max_workers=2, mp_context=get_context("fork")) as workers:
        for (index, *_), found in zip(pieces, workers.map(many, *zip(*pieces, strict=True)), strict=True):
            sums = of_kind[KINDS[index].name]
            for k, part in enumerate(found):
                sums[k] += part
    for name, (count, _, wrong, _) in of_kind.items():
        line(f"{count} kills of {name}: lost, half there, unreadable", str(len(wrong)), "0", not wrong)
        for text in wrong[:5]:
            note(f"    {text[:200]}", "")
    cut, wrong = (sum((item[k] for item in of_kind.values()), start) for k, start in ((1, 0), (3, [])))
    line(f"{cut} of them cut off in the log besides: half there, unreadable", str(len(wrong)), "0", not wrong)
    for text in wrong[:5]:
        note(f"    {text[:200]}", "")
    made = sum(item[0] for item in of_kind.values())
    line("kills in all", str(made), str(KILLS), made >= KILLS or bool(names))
    return ended()


if __name__ == "__main__":
    sys.exit(main())
