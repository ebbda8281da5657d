"""What will be asked for next, found in a thread of its own while the person looks at the page before them."""

import logging
import threading
from collections.abc import Callable

_LOG = logging.getLogger(__name__)

Step = Callable[[], object]


class ReadingAhead:
    """Does steps one after the other behind the pages; a new list takes the place of what is left of the last.

    Steps only fill what is kept of takes, so it does no harm where one fails or is given up.
    """

    def __init__(self) -> None:
        self._steps: list[Step] = []
        self._of: object = None
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    def begin(self, of: object, steps: Callable[[], list[Step]]) -> None:
        """Do the steps for something; where it is the same as last time, nothing is done again."""
        with self._lock:
            if of == self._of:
                return
            self._of, self._steps = of, steps()
            if self._steps and (self._thread is None or not self._thread.is_alive()):
                self._thread = threading.Thread(target=self._run, daemon=True, name="reading ahead")
                self._thread.start()

    def stop(self) -> None:
        """Give up what is left, and wait for the step that runs."""
        with self._lock:
            self._steps, self._of, thread = [], None, self._thread
        if thread is not None:
            thread.join()

    def wait(self) -> None:
        """Until nothing is left."""
        thread = self._thread
        if thread is not None:
            thread.join()

    def _run(self) -> None:
        while True:
            with self._lock:
                if not self._steps:
                    self._thread = None
                    return
                step = self._steps.pop(0)
            try:
                step()
            except Exception:            # the page that asks for it says what is wrong
                _LOG.info("reading ahead gave up a step", exc_info=True)
