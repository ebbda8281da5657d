"""Buttons that begin or make something: pressed many times at once, they count once."""

import threading
import time
from collections.abc import Callable
from functools import wraps

from flask import current_app, request
from werkzeug.wrappers import Response

from dolce.errors import Conflict

AGAIN_S = 2.0  # after its end, or after the last press that came to nothing; then it is meant
_FORGED = "csrf_token"


class Presses:
    """Which presses are under way, and which were just now. A press is its address and all that its form says."""

    def __init__(self) -> None:
        self._under_way: set[tuple] = set()
        self._latest: dict[tuple, float] = {}
        self._lock = threading.Lock()

    def begin(self, press: tuple) -> None:
        """Conflict where the same is under way, or was a moment ago: nobody means it twice so soon."""
        now = time.monotonic()
        with self._lock:
            self._latest = {key: at for key, at in self._latest.items() if now - at < AGAIN_S}
            if press in self._under_way:
                raise Conflict("this is being done already.", remedy="Wait until it is there.")
            if press in self._latest:
                self._latest[press] = now
                raise Conflict(
                    "this was done just now, and once is enough.",
                    remedy="Press again in a moment if you want it twice.",
                )
            self._under_way.add(press)

    def end(self, press: tuple, *, well: bool) -> None:
        """What failed may be tried again at once."""
        with self._lock:
            self._under_way.discard(press)
            if well:
                self._latest[press] = time.monotonic()


def pressed_once(route: Callable[..., Response]) -> Callable[..., Response]:
    """A route that does not do the same again while it is at it, nor right afterwards."""

    @wraps(route)
    def once(*args: object, **kwargs: object) -> Response:
        presses: Presses = current_app.extensions["dolce-presses"]
        press = (
            request.path,
            *sorted((name, *request.form.getlist(name)) for name in request.form if name != _FORGED),
            *sorted((name, file.filename) for name, file in request.files.items()),
        )
        presses.begin(press)
        well = False
        try:
            response = route(*args, **kwargs)
            well = response.status_code < 400
            return response
        finally:
            presses.end(press, well=well)

    return once
