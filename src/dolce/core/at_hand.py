"""What was found lately and can't have changed since, because its key says all that it follows from.

Values that come from here are frozen: nobody changes them.
"""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

Key = TypeVar("Key", bound=Hashable)
Value = TypeVar("Value")


class AtHand(Generic[Key, Value]):
    """The values that were asked for last, at most `most` of them."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[Key, Value] = OrderedDict()
        self._lock = Lock()

    def get(self, key: Key) -> Value | None:
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
            return self._kept.get(key)

    def get_or(self, key: Key, make: Callable[[], Value]) -> Value:
        """The value of a key; made and kept where it is not there. Never one that is None."""
        found = self.get(key)
        if found is None:
            found = make()
            self.add(key, found)
        return found

    def add(self, key: Key, value: Value) -> None:
        with self._lock:
            self._kept[key] = value
            self._kept.move_to_end(key)
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
