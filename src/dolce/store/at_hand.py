"""What was decoded lately and can't have changed since: shared by all transactions of an open database."""

from collections import OrderedDict
from collections.abc import Hashable
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

    def add(self, key: Key, value: Value) -> None:
        with self._lock:
            self._kept[key] = value
            self._kept.move_to_end(key)
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
