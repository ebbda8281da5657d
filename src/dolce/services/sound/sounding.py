"""What really makes sound in this process: told by the thread that does it, never by a row of the store.

A row can't tell: the process that wrote it may be gone, or the disk may have been full when the end was to be written.
"""

import itertools
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field, replace
from time import monotonic
from typing import Any

from dolce.core.job import PassRecord, PassState
from dolce.errors import Conflict

_INTERRUPTED = "The application was closed in the middle of this pass. Finished takes are kept."

# How many stops there had been when what runs in this context was asked for; None where nobody says.
_stops_when_asked: ContextVar[int | None] = ContextVar("stops_when_asked", default=None)


@dataclass(slots=True, eq=False)
class Sounding:
    """One pass while it runs. `quiet` is set while nothing of it sounds, `silent` as soon as nothing of it ever will,
    and `over` when its end is written down too."""

    record: PassRecord
    stop: threading.Event = field(default_factory=threading.Event)
    quiet: threading.Event = field(default_factory=threading.Event)
    silent: threading.Event = field(default_factory=threading.Event)
    over: threading.Event = field(default_factory=threading.Event)
    paused: threading.Event = field(default_factory=threading.Event)
    skipped: threading.Event = field(default_factory=threading.Event)
    hurried: threading.Event = field(default_factory=threading.Event)
    waits_s: tuple[float, ...] = ()
    waiting_s: float = 0.0
    done_steps: int = 0
    fraction: float = 0.0
    state: PassState = "running"
    message: str = ""

    @property
    def silenced(self) -> bool:
        """Whether what sounds has to end: the pass, or this step of it."""
        return self.stop.is_set() or self.skipped.is_set()

    def hold(self, look_every_s: float = 0.05) -> None:
        """Wait before the present step, and as long as it is paused; ends at once on stop, skip or go on."""
        remaining_s = self.waits_s[self.done_steps] if self.done_steps < len(self.waits_s) else 0.0
        begun = monotonic()
        while (remaining_s > 0 or self.paused.is_set()) and not self.silenced:
            self.waiting_s = max(remaining_s, 0.0)
            self.stop.wait(look_every_s)
            now = monotonic()
            if self.hurried.is_set():
                remaining_s = 0.0
                self.hurried.clear()
            elif not self.paused.is_set():
                remaining_s -= now - begun
            begun = now
        self.waiting_s = 0.0


class SoundingNow:
    """The pass that runs, those whose end could not be written down, and the stops that were pressed."""

    def __init__(self) -> None:
        self._present: Sounding | None = None
        self._unwritten: dict[int, tuple[PassState, str]] = {}
        self._counter = itertools.count(1)
        self._stops = 0
        self._asking = 0
        self._lock = threading.Lock()

    @property
    def present(self) -> Sounding | None:
        """The pass that runs; None where nothing does."""
        present = self._present
        return None if present is None or present.over.is_set() else present

    def truth(self, record: PassRecord) -> PassRecord:
        """Where a pass stands whose row counts as running; any other record as it is."""
        return self.standing()(record)

    def standing(self) -> Callable[[PassRecord], PassRecord]:
        """Where the pass stands now, to be asked of records that are read later.

        Steps are written down before they are told here. So what is read after this moment holds at least the takes
        of every step that it tells of, and an end that it tells of is the end of all that is read.
        """
        known = self._present
        known_state = {} if known is None else _values_of(known)

        def truth(record: PassRecord) -> PassRecord:
            if record.state != "running":
                return record
            if known is not None and known.record.id == record.id:
                return replace(record, **known_state)
            if (present := self._present) is not None and present.record.id == record.id:
                return record  # it began since: the row is what was read with it
            state, message = self._unwritten.get(record.id, ("interrupted", _INTERRUPTED))
            return replace(record, state=state, message=message)

        return truth

    # Stops and what they hold for

    @contextmanager
    def asking(self) -> Iterator[None]:
        """Around whatever may begin a pass: a stop that is pressed meanwhile holds for it too."""
        token = _stops_when_asked.set(self._stops)
        with self._lock:
            self._asking += 1
        try:
            yield
        finally:
            with self._lock:
                self._asking -= 1
            _stops_when_asked.reset(token)

    @property
    def asked_for(self) -> bool:
        """Whether something is being asked for that may begin a pass."""
        return self._asking > 0

    def stops_when_asked(self) -> int:
        """Stops until the present context asked for what it does; until now where nobody said."""
        asked = _stops_when_asked.get()
        return self._stops if asked is None else asked

    def press_stop(self) -> Sounding | None:
        """Count a stop and silence what runs; returns that, or None where nothing does."""
        # Counted before the look at what runs: a pass that begins at this very moment sees the count, or is seen.
        self._stops = next(self._counter)
        present = self.present
        if present is None or present.silent.is_set():
            return None
        present.stop.set()
        return present

    def require_not_stopped(self, asked: int) -> None:
        """Conflict where stop was pressed since."""
        if self._stops != asked:
            raise Conflict(
                "stop was pressed before it began. Nothing sounded.",
                where="sound",
                remedy="Start it again when you are ready.",
            )

    # Told by the thread

    def begin(self, record: PassRecord, *, asked: int, waits_s: Sequence[float] = ()) -> Sounding:
        """From now on this one runs; already stopped where stop was pressed since it was asked for."""
        sounding = Sounding(record=record, waits_s=tuple(waits_s))
        self._present = sounding
        if self._stops != asked:
            sounding.stop.set()
        self._unwritten.clear()
        return sounding

    def keep_unwritten(self, sounding: Sounding) -> None:
        """Remember an end that could not be written down."""
        self._unwritten[sounding.record.id] = (sounding.state, sounding.message)


def _values_of(sounding: Sounding) -> dict[str, Any]:
    """What the thread tells of its pass; its state first, for what is read with an end has to hold all steps."""
    state = sounding.state
    return {
        "state": state,
        "message": sounding.message,
        "done_steps": sounding.done_steps,
        "fraction": sounding.fraction,
        "paused": sounding.paused.is_set(),
        "waiting_s": sounding.waiting_s,
        "waits_left_s": sounding.waiting_s + sum(sounding.waits_s[sounding.done_steps + 1 :]),
    }
