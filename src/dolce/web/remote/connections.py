"""A thread for each connection to the remote: nobody waits for a stranger, and strangers can't crowd out the seat."""

import os
import socket
import ssl
import threading
import time
from collections.abc import Callable
from contextlib import suppress

from cheroot.server import HTTPConnection

CONNECTION = "dolce.connection"  # where a request finds its own among what a server says of it (PEP 3333)
_OF_STRANGERS, _OF_AN_ADDRESS = 48, 12
STRANGER_S = 10.0  # how long a connection may last that is not the seat's, its handshake included
_NO_TLS = (
    b"HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain\r\nConnection: close\r\n\r\n"
    b"This is HTTPS: begin the address with https://\n"
)


class Served(threading.Thread):
    """One connection, from its handshake to its end.

    Attributes
    ----------
    is_seat : whether the device that was let in asks over it
    since : when it came, of the monotonic clock
    """

    def __init__(self, among: "ConnectionThreads", connection: HTTPConnection) -> None:
        super().__init__(daemon=True, name="remote's connection")
        self.connection, self.is_seat, self.since = connection, False, time.monotonic()
        self._among = among
        connection.ssl_env = {**(connection.ssl_env or {}), CONNECTION: self}

    @property
    def address(self) -> str:
        return self.connection.remote_addr or ""

    def run(self) -> None:
        try:
            if self._is_through():
                while self.connection.communicate():
                    pass
        except OSError:  # it was closed from either side
            pass
        finally:
            self._among.ended(self)
            with suppress(OSError):
                self.connection.close()

    def _is_through(self) -> bool:
        """The handshake, where there is one: here, where it holds up nobody else."""
        if isinstance(self.connection.socket, ssl.SSLSocket):
            try:
                self.connection.socket.do_handshake()
            except ssl.SSLError as error:
                if error.reason == "HTTP_REQUEST":
                    os.write(self.connection.socket.fileno(), _NO_TLS)
                return False
        return True

    def shut(self, how: int = socket.SHUT_RDWR) -> None:
        """Wake whatever reads or writes there; its own thread closes it."""
        with suppress(OSError):
            socket.socket.shutdown(self.connection.socket, how)


class ConnectionThreads:
    """In the place of cheroot's pool of threads, with the methods that it asks of one.

    There are at most so many strangers, fewer of one address; whoever comes then takes the place of the one that has
    been there longest. The seat's connections are never closed for others.
    """

    min = 0

    def __init__(self, refuses: Callable[[str], bool]) -> None:
        self._refuses = refuses
        self._served: list[Served] = []  # in the order in which they came
        self._lock = threading.Lock()

    def start(self) -> None:
        """Nothing waits to be started."""

    def put(self, connection: HTTPConnection) -> None:
        """Serve a new connection, or close it at once where its address has guessed too often."""
        if self._refuses(connection.remote_addr or ""):
            connection.close()
            return
        served = Served(self, connection)
        with self._lock:
            strangers = [other for other in self._served if not other.is_seat]
            of_address = [other for other in strangers if other.address == served.address]
            if len(of_address) >= _OF_AN_ADDRESS:
                of_address[0].shut()
            elif len(strangers) >= _OF_STRANGERS:
                strangers[0].shut()
            self._served.append(served)
        served.start()

    def ended(self, served: Served) -> None:
        with self._lock, suppress(ValueError):
            self._served.remove(served)

    def expire(self) -> None:
        """Close what has not become the seat's in its time."""
        late = time.monotonic() - STRANGER_S
        with self._lock:
            for served in self._served:
                if not served.is_seat and served.since < late:
                    served.shut()

    def stop(self, timeout: float = 5) -> None:
        """Answers that are under way are finished within `timeout` seconds."""
        with self._lock:
            rest = [served for served in self._served if served is not threading.current_thread()]
        for served in rest:
            served.shut(socket.SHUT_RD)
        ends = time.monotonic() + timeout
        for served in rest:
            served.join(max(0.0, ends - time.monotonic()))
            served.shut()
