"""Run every bench, one after the other: `.venv/bin/python bench/all.py [--short] [NAME ...]`; 1 where one fails.

Names choose: `break` runs those that try to break it, `figures` those that measure.
"""

import re
import subprocess
import sys
import time
from pathlib import Path

HERE = Path(__file__).parent


def main() -> int:
    """Run the chosen benches and print a table of counts."""
    short = [flag for flag in sys.argv[1:] if flag == "--short"]
    names = [name for name in sys.argv[1:] if not name.startswith("-")]
    scripts = [
        path
        for path in sorted(HERE.glob("*.py"))
        if path.stem != "all"
        and "__main__" in path.read_text()
        and (not names or any(name in path.stem for name in names))
    ]
    table = []
    for script in scripts:
        print(f"\n{script.name}", flush=True)
        begun = time.monotonic()
        run = subprocess.run(
            [sys.executable, script, *short], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        print(run.stdout, end="", flush=True)
        counted = re.search(r"^(\d+) held, (\d+) missed", run.stdout, re.MULTILINE)
        held, missed = counted.groups() if counted else ("-", "broke")
        table.append((script.name, held, missed, run.returncode, time.monotonic() - begun))
    print(f"\n{'bench':<24}{'held':>6}{'missed':>8}{'exit':>6}{'seconds':>9}")
    for name, held, missed, code, seconds in table:
        print(f"{name:<24}{held:>6}{missed:>8}{code:>6}{seconds:>9.0f}")
    return 1 if any(code or missed == "broke" for _, _, missed, code, _ in table) else 0


if __name__ == "__main__":
    raise SystemExit(main())
