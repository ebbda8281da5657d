"""Conversations with processors on the network, each in a thread of its own: no page waits long for a slow device."""

import logging
import threading
import time
from collections.abc import Callable
from typing import Generic, TypeVar, cast

from dolce.errors import Conflict, DeviceError, DolceError

log = logging.getLogger(__name__)
_DEED_WAITS_S = 4.0  # for an answer; then it is said that there is none yet, and the conversation goes on
_PAGE_WAITS_S = (
    0.25  # the same where a page only wants to show what is held: a processor in the same house answers in less
)
_PAGES_AT_ONCE = 2  # that wait, of the few threads that answer all pages, Stop included
Result = TypeVar("Result")


class _Conversation(threading.Thread, Generic[Result]):
    """One, from its first question to its last answer."""

    def __init__(self, address: str, hold: Callable[[], Result], ended: Callable[["_Conversation"], None]) -> None:
        super().__init__(daemon=True, name=f"processor at {address}")
        self.address, self.since = address, time.monotonic()
        self.over = threading.Event()
        self.late = False  # whether the page that asked was answered before
        self.result: Result | None = None
        self.fault: Exception | None = None
        self._hold, self._ended = hold, ended

    def run(self) -> None:
        try:
            self.result = self._hold()
        except Exception as error:  # whatever it is, the one who asked is told
            self.fault = error
            if not isinstance(error, DolceError):
                log.exception("speaking to the processor at %s broke", self.address)
        self._ended(self)


class Conversations:
    """One at a time with each processor. What one ended in that nobody waited for any more is kept to be told."""

    def __init__(self) -> None:
        self._present: dict[str, _Conversation] = {}
        self._late: dict[str, str] = {}
        self._lock = threading.Lock()
        self._pages = threading.BoundedSemaphore(_PAGES_AT_ONCE)

    def hold(self, address: str, work: Callable[[], Result]) -> Result:
        """Speak to a processor: what `work` returns or raises, if that comes in time.

        Raises
        ------
        Conflict
            While another conversation with it is under way.
        DeviceError
            Where it has not come to an end yet; it goes on.
        """
        ends = time.monotonic() + _DEED_WAITS_S
        conversation = self._begun(address, work, _DEED_WAITS_S)
        if conversation is None:
            raise Conflict(
                "it is being spoken to, and has not answered yet.",
                where=f"processor at {address}",
                remedy="Wait a moment, then do it again.",
            )
        if not self._awaited(conversation, max(0.0, ends - time.monotonic())):
            raise DeviceError(
                "it has not answered yet. What was asked goes on; what comes of it is shown here.",
                where=f"processor at {address}",
                remedy="Look again in a moment.",
            )
        if conversation.fault is not None:
            raise conversation.fault
        return cast(Result, conversation.result)  # it ended without a fault: this is what `work` returned

    def glance(self, address: str, work: Callable[[], Result]) -> tuple[Result | None, str]:
        """For a page that shows what is known where no answer comes at once: what `work` returned, or why it is
        missing.

        A processor that was silent last time costs a page nothing.
        """
        fault = self._late.get(address, "")
        silent = fault or self._silence_of(address)
        conversation = self._begun(address, work, 0.0 if silent else _PAGE_WAITS_S)
        if conversation is None:
            return None, silent or self._silence_of(address)
        if fault or not self._awaited(conversation, _PAGE_WAITS_S):
            conversation.late = True
            return None, fault or _NO_ANSWER
        if isinstance(conversation.fault, DeviceError):
            self._late[address] = str(conversation.fault)  # the next page waits for it no more
            return None, str(conversation.fault)
        if conversation.fault is not None:
            raise conversation.fault
        return conversation.result, ""

    def wait(self) -> None:
        """Until none is under way."""
        for conversation in list(self._present.values()):
            conversation.over.wait()

    def _begun(self, address: str, work: Callable[[], Result], patience_s: float) -> "_Conversation | None":
        """A new conversation, after the one that is under way; None where that does not end in time."""
        with self._lock:
            present = self._present.get(address)
        if present is not None and not self._waited(present, patience_s):
            return None
        with self._lock:
            if address in self._present:
                return None
            conversation = self._present[address] = _Conversation(address, work, self._ended)
        conversation.start()
        return conversation

    def _awaited(self, conversation: _Conversation, seconds: float) -> bool:
        """Whether it came to its end in time; it is late otherwise, and what it ends in is kept."""
        self._waited(conversation, seconds)
        with self._lock:
            conversation.late = self._present.get(conversation.address) is conversation
        return not conversation.late

    def _waited(self, conversation: _Conversation, seconds: float) -> bool:
        """Whether it is over; where too many pages wait already, it is not waited for."""
        if self._pages.acquire(blocking=False):
            try:
                conversation.over.wait(seconds)
            finally:
                self._pages.release()
        return conversation.over.is_set()

    def _ended(self, conversation: _Conversation) -> None:
        with self._lock:
            conversation.over.set()
            self._present.pop(conversation.address, None)
            self._late.pop(conversation.address, None)
            if conversation.late and conversation.fault is not None:
                self._late[conversation.address] = str(conversation.fault)

    def _silence_of(self, address: str) -> str:
        with self._lock:
            present = self._present.get(address)
        return _NO_ANSWER if present is not None and present.late else ""


_NO_ANSWER = "The processor has not answered yet."
