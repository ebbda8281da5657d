"""What pages send, received so that a full disk is told to the page instead of cutting its connection."""

import io

from waitress.buffers import OverflowableBuffer
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser


class _Body(OverflowableBuffer):
    """Large ones lie in a file beside the others of the system; where that can't be written, the rest is let go by, and
    whoever reads it is told."""

    fault: OSError | None = None

    def append(self, s: bytes) -> None:
        if self.fault is None:
            try:
                super().append(s)
            except OSError as error:
                self.fault = error

    def getfile(self) -> io.IOBase:
        return super().getfile() if self.fault is None else _Unread(self.fault)


class _Unread(io.RawIOBase):
    """Nothing to read, and why."""

    def __init__(self, fault: OSError) -> None:
        self.fault = fault


def require_received(body: object) -> None:
    """OSError where a body could not be kept when it was received."""
    if isinstance(body, _Unread):
        raise body.fault


class _Parser(HTTPRequestParser):
    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)
        if self.body_rcv is not None:
            self.body_rcv.buf = _Body(self.adj.inbuf_overflow)


class Channel(HTTPChannel):
    """A browser's connection."""

    parser_class = _Parser
