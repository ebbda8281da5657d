"""How every bench says what it found: a line per promise, a count at the end, and 1 as exit code where one is missed.

`--short` asks for a few runs only: enough to see that the bench still works, too few for its figures to mean much.
"""

import sys

SHORT = "--short" in sys.argv[1:]
_counts = {"held": 0, "missed": 0}


def line(what: str, found: str, promised: str, held: bool, *, timed: bool = False) -> None:
    """One figure beside what is promised; `timed` says that a slow machine may miss it."""
    _counts["held" if held else "missed"] += 1
    outcome = "held" if held else "SLOW" if timed else "MISSED"
    print(f"{outcome:<6}  {what:<66} {found:<30} promised: {promised}", flush=True)


def note(what: str, found: str) -> None:
    """A figure without a promise."""
    print(f"        {what:<66} {found}", flush=True)


def ended() -> int:
    """Say how many were held, and give the exit code."""
    print(f"{_counts['held']} held, {_counts['missed']} missed{' (short)' if SHORT else ''}", flush=True)
    return 1 if _counts["missed"] else 0
