"""The remote's own listener, made when a remote is switched on: most starts need none, and it takes long to load."""

import logging
import socket

from cheroot.ssl.builtin import BuiltinSSLAdapter
from cheroot.wsgi import Server
from flask import Flask

from dolce.web.remote.certificate import Certificate

_THREADS, _TIMEOUT_S, _WAITING = 6, 10, 16


class Listener(Server):
    """A server that leaves nothing behind: neither where its port is taken nor when it has ended."""

    expiration_interval = 0.1                    # how long its end takes at most

    def __init__(self, address: str, port: int, app: Flask, made: Certificate | None) -> None:
        super().__init__((address, port), app, numthreads=_THREADS, max=_THREADS, timeout=_TIMEOUT_S,
                         request_queue_size=_WAITING)
        # Its figures, which nothing here looks at, would hold it and all that it knows to the end of the process.
        getattr(logging, "statistics", {}).pop(f"Cheroot HTTPServer {id(self)}", None)
        if made is not None:
            self.ssl_adapter = BuiltinSSLAdapter(str(made.certificate), str(made.key))

    @staticmethod
    def bind_socket(socket_: socket.socket, bind_addr: tuple[str, int]) -> socket.socket:
        """OSError where the port is taken; the socket is closed then."""
        try:
            return Server.bind_socket(socket_, bind_addr)
        except OSError:
            socket_.close()
            raise


def listening(address: str, port: int, app: Flask, made: Certificate | None) -> Listener:
    """One that listens; port 0 takes any that is free.

    Raises
    ------
    OSError
        If it can't be listened there.
    """
    listener = Listener(address, port, app, made)
    listener.prepare()
    return listener
