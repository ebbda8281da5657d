"""Which requests are answered at once: the seat's, always; those of strangers a few at a time."""

import io
import threading
from collections.abc import Iterable
from typing import TYPE_CHECKING

from werkzeug.http import parse_cookie

from dolce.web.remote.connections import CONNECTION

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

    from dolce.web.remote.session import RemoteSessions

COOKIE = "dolce-seat"
LARGEST_FORM_BYTES = 4096
_STRANGERS_AT_ONCE = 2


class SeatFirst:
    """An application behind it (PEP 3333) is asked by the seat whenever it likes, and by few others side by side.

    What a stranger sends is read before its turn, so that whoever sends slowly holds up nobody.
    """

    def __init__(self, app: "WSGIApplication", sessions: "RemoteSessions") -> None:
        self._app, self._desk = app, sessions
        self._strangers = threading.BoundedSemaphore(_STRANGERS_AT_ONCE)

    def __call__(self, environ: "WSGIEnvironment", start_response: "StartResponse") -> Iterable[bytes]:
        if self._desk.held_by(parse_cookie(environ).get(COOKIE, "")) is not None:
            if CONNECTION in environ:
                environ[CONNECTION].is_seat = True
            return self._app(environ, start_response)
        environ["wsgi.input"] = io.BytesIO(environ["wsgi.input"].read(LARGEST_FORM_BYTES + 1))
        with self._strangers:
            return self._app(environ, start_response)
