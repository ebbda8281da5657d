"""Long work on the data folder, behind the pages: one piece at a time, with progress, stoppable."""

import threading
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from dolce.errors import Conflict, DolceError


class _Stopped(Exception):
    """The person has ended it."""


@dataclass(slots=True, kw_only=True)
class Work:
    """A backup that is written or put back, or space that is given back.

    Attributes
    ----------
    fraction : 0 to 1
    message : how it ended, in words; empty while it runs
    fault : what went wrong; empty for nothing
    """

    kind: Literal["backup", "restore", "space"]
    what: str
    fraction: float = 0.0
    message: str = ""
    fault: str = ""
    stop: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None

    @property
    def running(self) -> bool:
        return self.thread is not None and self.thread.is_alive()


class FolderWork:
    """The one piece of work that runs, or ran last."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._present: Work | None = None

    @property
    def present(self) -> Work | None:
        return self._present

    def begin(
        self, work: Work, run: Callable[[Callable[[float], None]], str], *, otherwise: str = "everything is as it was."
    ) -> Work:
        """Run it in a thread of its own; it is given whom to tell how far it is, and returns what to say in the end.

        `otherwise` says how things stand where it was stopped, or went wrong.

        Raises
        ------
        Conflict
            While another piece of work runs.
        """

        def on_progress(fraction: float) -> None:
            work.fraction = fraction
            if work.stop.is_set():
                raise _Stopped

        def whole() -> None:
            try:
                work.message = run(on_progress)
                work.fraction = 1.0
            except _Stopped:
                work.message = f"Stopped; {otherwise}"
            except DolceError as error:
                work.fault = str(error)
                work.message = f"Not done; {otherwise}"

        with self._lock:
            if self._present is not None and self._present.running:
                raise Conflict(
                    "a backup is being written or put back, or space is given back.",
                    where="data folder",
                    remedy="Wait until it has ended, or stop it.",
                )
            work.thread = threading.Thread(target=whole, name=work.kind, daemon=True)
            self._present = work
            work.thread.start()
        return work

    def stop(self) -> None:
        """End what runs."""
        if self._present is not None:
            self._present.stop.set()
            self.wait()

    def wait(self) -> None:
        """Until what runs has ended."""
        if self._present is not None and self._present.thread is not None:
            self._present.thread.join()
