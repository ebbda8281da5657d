"""The remote's own listener, made when a remote is switched on: most starts need none, and it takes long to load."""

import logging
import socket
import ssl
from collections.abc import Callable

from cheroot.errors import FatalSSLAlert
from cheroot.ssl.builtin import BuiltinSSLAdapter
from cheroot.wsgi import Server
from flask import Flask

from dolce.web.remote.certificate import Certificate
from dolce.web.remote.connections import ConnectionThreads

_IDLE_S, _WAITING = 10, 64


class _LateHandshake(BuiltinSSLAdapter):
    """Wraps without a word, so that accepting never waits for a stranger: the connection's own thread shakes hands."""

    def __init__(self, made: Certificate, refuses: Callable[[str], bool]) -> None:
        super().__init__(str(made.certificate), str(made.key))
        self._refuses = refuses

    def wrap(self, sock: socket.socket) -> tuple[ssl.SSLSocket, dict[str, str]]:
        if self._refuses(sock.getpeername()[0]):  # before anything is made for it
            sock.close()
            raise FatalSSLAlert("too many wrong codes")
        made = self.context.wrap_socket(sock, do_handshake_on_connect=False, server_side=True)
        return made, {"wsgi.url_scheme": "https", "HTTPS": "on"}


class Listener(Server):
    """A server that leaves nothing behind: neither where its port is taken nor when it has ended."""

    expiration_interval = 0.1  # how long its end takes at most

    def __init__(
        self, address: str, port: int, app: Flask, made: Certificate | None, refuses: Callable[[str], bool]
    ) -> None:
        super().__init__((address, port), app, numthreads=1, timeout=_IDLE_S, request_queue_size=_WAITING)
        self.requests = ConnectionThreads(refuses)
        # Its figures, which nothing here looks at, would hold it and all that it knows to the end of the process.
        getattr(logging, "statistics", {}).pop(f"Cheroot HTTPServer {id(self)}", None)
        if made is not None:
            self.ssl_adapter = _LateHandshake(made, refuses)

    def error_log(self, msg: str = "", level: int = 20, traceback: bool = False) -> None:
        """Whoever is refused, or breaks off, is no news."""
        if level >= logging.ERROR:
            logging.getLogger(__name__).log(level, msg, exc_info=traceback)

    @staticmethod
    def bind_socket(socket_: socket.socket, bind_addr: tuple[str, int]) -> socket.socket:
        """OSError where the port is taken; the socket is closed then."""
        try:
            return Server.bind_socket(socket_, bind_addr)
        except OSError:
            socket_.close()
            raise


def listening(
    address: str,
    port: int,
    app: Flask,
    made: Certificate | None,
    *,
    refuses: Callable[[str], bool] = lambda _address: False,
) -> Listener:
    """One that listens; port 0 takes any that is free. Whom it refuses is not even shaken hands with.

    Raises
    ------
    OSError
        If it can't be listened there.
    """
    listener = Listener(address, port, app, made, refuses)
    try:
        listener.prepare()
    except OSError:
        # Bound, while another one began to listen there first.
        if (bound := getattr(listener, "socket", None)) is not None:
            bound.close()
        raise
    return listener
