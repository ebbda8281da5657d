"""What will be asked for next, found in a thread of its own behind the pages."""

import logging
import threading
import time
from collections.abc import Callable

_LOG = logging.getLogger(__name__)
_LONGEST_HOLD_S = 2.0  # a page that takes longer than that shares the machine with what is done behind it

Step = Callable[[], object]


class Background:
    """Does short steps one after the other, by topic; a new list for a topic takes the place of what is left of its
    last one.

    Steps only fill what is kept, so it does no harm where one fails or is given up. While a page is answered no step
    begins.
    """

    def __init__(self) -> None:
        self._steps: dict[str, list[Step]] = {}
        self._of: dict[str, object] = {}
        self._pages = 0
        self.page_at = 0.0  # when one was asked for last, of the monotonic clock
        self._changed = threading.Condition()
        self._thread: threading.Thread | None = None
        self._ended = False

    def begin(self, topic: str, of: object, steps: Callable[[], list[Step]]) -> None:
        """Do the steps for something; where it is the same as last time, nothing is done again."""
        with self._changed:
            if self._ended or of == self._of.get(topic):
                return
            self._of[topic], self._steps[topic] = of, steps()
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, daemon=True, name="behind the pages")
                self._thread.start()

    def page_begins(self) -> None:
        """A page is asked for: it goes first."""
        with self._changed:
            self._pages += 1
            self.page_at = time.monotonic()

    def page_ends(self) -> None:
        """It is answered."""
        with self._changed:
            self._pages -= 1
            self._changed.notify_all()

    def close(self) -> None:
        """Give up what is left for good, and wait for the step that runs."""
        with self._changed:
            self._ended = True
            self._steps.clear()
            thread = self._thread
            self._changed.notify_all()
        if thread is not None:
            thread.join()

    def wait(self) -> None:
        """Until nothing is left."""
        with self._changed:
            thread = self._thread
        if thread is not None:
            thread.join()

    def _run(self) -> None:
        while (step := self._next()) is not None:
            try:
                step()
            except Exception:  # the page that asks for it says what is wrong
                _LOG.info("a step behind the pages was given up", exc_info=True)

    def _next(self) -> Step | None:
        with self._changed:
            self._changed.wait_for(lambda: not self._pages or self._ended, timeout=_LONGEST_HOLD_S)
            topic = next((name for name, steps in self._steps.items() if steps), None)
            if topic is None:
                self._thread = None
                return None
            return self._steps[topic].pop(0)
