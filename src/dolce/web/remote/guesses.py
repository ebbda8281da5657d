"""Wrong codes, by the address that they came from."""

import threading
from collections import Counter

MOST_GUESSES = 10  # of one address
_MOST_IN_ALL = 1000  # of 32 ** 8 codes: one in a thousand million is guessed


class Guesses:
    """How often who guessed wrong. Nobody is made to wait for a guess: after ten, an address is refused at once."""

    def __init__(self) -> None:
        self._wrong: Counter[str] = Counter()
        self._lock = threading.Lock()

    def wrong(self, address: str) -> None:
        with self._lock:
            self._wrong[address] += 1

    def refuses(self, address: str) -> bool:
        return self._wrong[address] >= MOST_GUESSES

    @property
    def refused(self) -> tuple[str, ...]:
        """Addresses that are not listened to any more."""
        with self._lock:
            return tuple(address for address, count in self._wrong.items() if count >= MOST_GUESSES)

    @property
    def too_many(self) -> bool:
        """Whether so many were wrong, from however many addresses, that the code should no longer stand."""
        return self._wrong.total() >= _MOST_IN_ALL
