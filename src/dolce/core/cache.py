"""What was found lately and can't have changed since, because its key says all that it follows from.

Values that come from here are frozen: nobody changes them. All that is kept in this way, by whomever, has one bound in
bytes; what was not asked for longest goes first.
"""

import sys
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable, Mapping
from dataclasses import fields, is_dataclass
from functools import wraps
from threading import RLock
from typing import Any, Generic, ParamSpec, TypeVar

import numpy as np

Key = TypeVar("Key", bound=Hashable)
Value = TypeVar("Value")
Given = ParamSpec("Given")

MOST_BYTES = 48 << 20  # of all caches together


class _Together:
    """Who keeps what, in the order in which it was asked for last, and how large it is."""

    def __init__(self) -> None:
        self.lock = RLock()  # a value may go while another one is put in, by the collector
        self._sizes: OrderedDict[tuple[int, Hashable], tuple[weakref.ref[Cache], int]] = OrderedDict()
        self.held_bytes = 0

    def put(self, owner: "Cache", key: Hashable, size: int) -> None:
        self.take(owner, key)
        self._sizes[id(owner), key] = weakref.ref(owner), size
        self.held_bytes += size
        self.shrink(MOST_BYTES, least=1)

    def shrink(self, most_bytes: int, *, least: int = 0) -> None:
        """What was not asked for longest goes, but for so many."""
        while self.held_bytes > most_bytes and len(self._sizes) > least:
            (_, oldest), (whose, _) = next(iter(self._sizes.items()))
            if (other := whose()) is not None:
                other.drop(oldest)
            else:
                self._forget(next(iter(self._sizes)))

    def asked_for(self, owner: "Cache", key: Hashable) -> None:
        if (id(owner), key) in self._sizes:
            self._sizes.move_to_end((id(owner), key))

    def take(self, owner: "Cache", key: Hashable) -> None:
        self._forget((id(owner), key))

    def gone(self, number: int, keys: "OrderedDict") -> None:
        """All of one that is no more."""
        with self.lock:
            for key in list(keys):
                self._forget((number, key))

    def _forget(self, place: tuple[int, Hashable]) -> None:
        if place in self._sizes:
            self.held_bytes -= self._sizes.pop(place)[1]


_together = _Together()


def shrink(most_bytes: int) -> None:
    """Let go of what was not asked for longest, until all caches together hold so much at most."""
    with _together.lock:
        _together.shrink(most_bytes)


class Cache(Generic[Key, Value]):
    """The values that were asked for last, at most `most` of them, and fewer where all together are too large."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[Key, Value] = OrderedDict()
        weakref.finalize(self, _together.gone, id(self), self._kept)

    def get(self, key: Key) -> Value | None:
        with _together.lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                _together.asked_for(self, key)
            return self._kept.get(key)

    def get_or(self, key: Key, make: Callable[[], Value]) -> Value:
        """The value of a key; made and kept where it is not there. Never one that is None."""
        found = self.get(key)
        if found is None:
            found = make()
            self.add(key, found)
        return found

    def add(self, key: Key, value: Value) -> None:
        size = bytes_of(value)
        with _together.lock:
            self._kept[key] = value
            self._kept.move_to_end(key)
            while len(self._kept) > self._most:
                self.drop(next(iter(self._kept)))
            _together.put(self, key, size)

    def drop(self, key: Key) -> None:
        """Let one go; nothing happens where it is gone already."""
        with _together.lock:
            self._kept.pop(key, None)
            _together.take(self, key)

    def clear(self) -> None:
        """Let all go."""
        for key in list(self._kept):
            self.drop(key)


def cache(most: int) -> Callable[[Callable[Given, Value]], Callable[Given, Value]]:
    """Keeps what a function gave for the last arguments, by the policy of this module; they must be hashable."""

    def keeping(function: Callable[Given, Value]) -> Callable[Given, Value]:
        kept: Cache[tuple, Value] = Cache(most)

        @wraps(function)
        def found(*args: Given.args, **kwargs: Given.kwargs) -> Value:
            return kept.get_or((args, *sorted(kwargs.items())), lambda: function(*args, **kwargs))

        return found

    return keeping


def held_bytes() -> int:
    """Of all caches."""
    return _together.held_bytes


def bytes_of(value: Any) -> int:
    """About what a value holds in memory, an array with all that it is cut out of."""
    return _bytes_of(value, set())


def _bytes_of(value: Any, seen: set[int]) -> int:
    if id(value) in seen:
        return 0
    seen.add(id(value))
    if isinstance(value, np.ndarray):
        whole = value
        while isinstance(whole.base, np.ndarray):
            whole = whole.base
        return _bytes_of(whole, seen) if whole is not value else whole.nbytes + 128
    if isinstance(value, Mapping):
        return 64 + sum(64 + _bytes_of(key, seen) + _bytes_of(item, seen) for key, item in value.items())
    if isinstance(value, (list, tuple, set, frozenset)):
        return 64 + sum(8 + _bytes_of(item, seen) for item in value)
    if is_dataclass(value) and not isinstance(value, type):
        return 64 + sum(8 + _bytes_of(getattr(value, field.name, None), seen) for field in fields(value))
    if type(value).__module__.startswith("dolce."):
        return 64 + _bytes_of(getattr(value, "__dict__", {}), seen)
    return sys.getsizeof(value)
