"""How the server's process holds and gives back memory."""

import ctypes
import gc
import threading
import time
from collections.abc import Callable
from contextlib import suppress

from dolce.core import cache

_ARENA_MAX, _MMAP_THRESHOLD, _TRIM_THRESHOLD = -8, -3, -1  # of mallopt(3)
_ARENAS, _LARGE_BYTES = 2, 1 << 19
_RESTED_S, _LOOK_S = 30.0, 5.0
_SILENCE_LOOK_S = 0.5
_NEVER, _MOST_DUE = 1 << 30, 500  # collections of what is younger
_KEPT_AT_REST_BYTES = 16 << 20  # a third of what caches may hold


def hold_little() -> None:
    """Few arenas, and whatever is large is given back as soon as it is let go; nothing where the C library has no such
    settings.

    References
    ----------
    mallopt(3) of the GNU C library: M_ARENA_MAX, M_MMAP_THRESHOLD, M_TRIM_THRESHOLD.
    """
    with suppress(OSError, AttributeError, TypeError):
        library = ctypes.CDLL(None)
        for what, value in ((_ARENA_MAX, _ARENAS), (_MMAP_THRESHOLD, _LARGE_BYTES), (_TRIM_THRESHOLD, _LARGE_BYTES)):
            library.mallopt(what, value)


def give_back() -> None:
    """What nothing holds any more, and two thirds of the caches, to the system (malloc_trim(3))."""
    cache.shrink(_KEPT_AT_REST_BYTES)
    gc.unfreeze()
    gc.collect()
    gc.freeze()
    with suppress(OSError, AttributeError, TypeError):
        ctypes.CDLL(None).malloc_trim(0)


def is_due(younger: int, *, usual: int, sounds: bool) -> bool:
    """Whether to collect all after so many collections of what is younger, where `usual` are the usual number."""
    return younger > (_MOST_DUE if sounds else usual)


def collect_in_silence(sounds: Callable[[], bool]) -> None:
    """Look for waste among what is old only while nothing sounds, in a thread of its own.

    A full collection holds everything up for up to a tenth of a second, and a stop that is pressed then as well
    (https://docs.python.org/3.11/library/gc.html#gc.set_threshold). After very much work it is done all the same.
    """
    young, middle, old = gc.get_threshold()
    gc.set_threshold(young, middle, _NEVER)

    def look() -> None:
        while True:
            time.sleep(_SILENCE_LOOK_S)
            if is_due(gc.get_count()[2], usual=old, sounds=sounds()):
                gc.collect()
                gc.freeze()  # what is left stays for long: the next one looks at what is new

    threading.Thread(target=look, daemon=True, name="collects in silence").start()


def give_back_at_rest(asked_at: Callable[[], float]) -> None:
    """Once after each time of work, when no page was asked for during half a minute; in a thread of its own.

    `asked_at` says when one was asked for last, of the monotonic clock.
    """

    def rest() -> None:
        given = 0.0
        while True:
            time.sleep(_LOOK_S)
            last = asked_at()
            if last > given and time.monotonic() - last > _RESTED_S:
                given = time.monotonic()
                give_back()

    threading.Thread(target=rest, daemon=True, name="gives memory back").start()
