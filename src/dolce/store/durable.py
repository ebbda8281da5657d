"""Files that are whole under their name or not there, whenever the power goes.

Written beside first, then moved in: rename is atomic, and what was written is on the disk before and after it (POSIX.1,
rename and fsync).
"""

import os
from pathlib import Path

PART = ".part"


def write_whole(path: Path, data: bytes) -> None:
    """A small file, for its user alone; OSError where it can't be written, and what was there stays then."""
    beside = path.with_name(path.name + PART)
    try:
        beside.unlink(missing_ok=True)
        with os.fdopen(os.open(beside, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as file:
            file.write(data)
        move_in(beside, path)
    except OSError:
        beside.unlink(missing_ok=True)
        raise


def move_in(beside: Path, path: Path) -> None:
    """Give a whole file of the same folder its name."""
    _on_disk(beside)
    os.replace(beside, path)
    _on_disk(path.parent)


def _on_disk(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
