"""The sample jobs of a data folder that is new: all of them are there, or the next start makes them.

They are made in a folder inside, which is moved in when it is whole.
"""

import shutil
from collections.abc import Callable
from pathlib import Path

from dolce.services.sample.demo import build_demo
from dolce.services.sample.preparing import FILE_NAME as TO_PREPARE
from dolce.services.wiring import open_services
from dolce.store import DATABASE, DataFolder, is_untouched, move_in

_MAKING = "first-start"


def make_samples(folder: Path, *, report: Callable[[str], None]) -> None:
    """Make them where no start has come to its end yet; a database that is there stays as it is, however empty.

    Raises
    ------
    Conflict
        Where another application is making them.
    StorageError
        Where the folder can't be used, or its disk is full.
    """
    making = folder / _MAKING
    if not is_untouched(folder):
        shutil.rmtree(making, ignore_errors=True)
        return
    if making.exists():  # a start that was killed left it, or another one holds it
        DataFolder(making).close()
        shutil.rmtree(making)
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    services = open_services(making)
    try:
        build_demo(services, report=report)
    finally:
        services.close()
    for name in (TO_PREPARE, DATABASE):  # the database last: it says that all is there
        move_in(making / name, folder / name)
    shutil.rmtree(making, ignore_errors=True)
