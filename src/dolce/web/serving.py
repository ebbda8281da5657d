"""Serve the application on this machine only."""

import gc
import hashlib
import importlib
import signal
import socket
import sys
import threading
from contextlib import suppress
from pathlib import Path
from types import FrameType

import scipy
from flask import Flask
from waitress import create_server
from waitress.server import TcpWSGIServer

from dolce.errors import DeviceError
from dolce.services.sample.first_start import make_samples
from dolce.services.shape.fitting_process import FittingProcess
from dolce.services.wiring import Services, open_services
from dolce.web import create_app
from dolce.web.app import LARGEST_UPLOAD_BYTES
from dolce.web.memory import collect_in_silence, give_back_at_rest, hold_little
from dolce.web.sent_bodies import Channel

# Every page keeps a few connections open, and half-open ones must neither use up all there may be nor stay.
_MOST_CONNECTIONS, _IDLE_S, _LOOK_EVERY_S, _THREADS = 1000, 20, 5, 8
# Larger than the largest upload, so that such a one gets a page's answer; what is larger still is not even received.
_LARGEST_BODY_BYTES = 2 * LARGEST_UPLOAD_BYTES
# What waits to be fetched of an answer, before the rest of it is made; in memory, since a full disk would cut it off.
_WAITING_BYTES, _NEVER_TO_DISK = 4 << 20, 1 << 40

_TURN_S = 0.00025

HOME = Path.home() / ".local" / "share" / "dolce"


def new_server(services: Services, *, port: int, ready: bool = False) -> TcpWSGIServer:
    """A server of the pages on 127.0.0.1; port 0 takes any that is free.

    `ready` says that everything is loaded before it answers, in a process that is its own.

    Raises
    ------
    DeviceError
        If the port is taken.
    """
    listening = _listening(port)
    application = _application(services, listening)
    if ready:
        prepare_process(services)
        load_the_rest(application)
    return _server(application, listening)


def _listening(port: int) -> socket.socket:
    """DeviceError where the port is taken."""
    try:
        return socket.create_server(("127.0.0.1", port))
    except OSError as error:
        raise DeviceError(
            f"port {port} can't be used: {error.strerror}.", where="serve", remedy="Choose another with --port."
        ) from error


def _application(services: Services, listening: socket.socket) -> Flask:
    """Browsers keep cookies by host: two applications on two ports would overwrite each other's."""
    digest = hashlib.sha256(str(services.folder.resolve()).encode()).hexdigest()[:10]
    return create_app(services, cookie=f"dolce-{listening.getsockname()[1]}-{digest}")


def _server(application: Flask, listening: socket.socket) -> TcpWSGIServer:
    made = create_server(
        application,
        sockets=[listening],
        threads=_THREADS,
        connection_limit=_MOST_CONNECTIONS,
        channel_timeout=_IDLE_S,
        cleanup_interval=_LOOK_EVERY_S,
        asyncore_use_poll=True,
        max_request_body_size=_LARGEST_BODY_BYTES,
        outbuf_overflow=_NEVER_TO_DISK,
        outbuf_high_watermark=_WAITING_BYTES,
    )
    made.channel_class = Channel
    # A worker that still answers when the server is closed wakes it by the number of a pipe. Were that end closed, it
    # could be the number of a file opened since: the byte would overwrite the beginning of the database, say.
    made.trigger._close = made.trigger.socket.close
    return made


def prepare_process(services: Services) -> None:
    """Let this process put pages, and Stop above all, before everything else, and hold little.

    Threads ask for their turn twenty times as often as usual, since searches compute beside pages
    (https://docs.python.org/3.11/library/sys.html#sys.setswitchinterval).
    """
    sys.setswitchinterval(_TURN_S)
    hold_little()
    give_back_at_rest(lambda: services.context.background.page_at)
    collect_in_silence(lambda: services.context.sounding.present is not None)


def load_the_rest(application: Flask) -> None:
    """Import what pages compute with, and compile them, which is done at the first use otherwise.

    These take longer than all the rest together, and no one should wait for them before the list of jobs is there; nor
    should Stop, while a page that is opened first or a backup loads its part.
    SciPy loads its parts at their first use (https://docs.scipy.org/doc/scipy/reference/#api-definition).
    """
    for part in ("signal", "optimize", "ndimage", "special"):
        getattr(scipy, part)
    for name in ("alembic.command", "sounddevice"):
        with suppress(ImportError, OSError):  # without PortAudio there is the rehearsal alone
            importlib.import_module(name)
    for name in application.jinja_env.list_templates(extensions=("html",)):
        application.jinja_env.get_template(name)
    settle()


def settle() -> None:
    """Never look again for waste among what is loaded by now, which stays to the end.

    Each full collection would walk over all modules and hold up a page by a tenth of a second
    (https://docs.python.org/3.11/library/gc.html#gc.freeze).
    """
    gc.collect()
    gc.freeze()


def serve(*, folder: Path | None, port: int, demo: bool) -> None:
    """Open the data folder and answer on 127.0.0.1 until Ctrl-C or SIGTERM.

    On the first start the sample jobs are made; `demo` keeps to a folder of its own.

    Raises
    ------
    Conflict
        If the folder is open already.
    StorageError
        If the folder can't be used, or its disk is full.
    DeviceError
        If the port is taken.
    """
    folder = folder or (HOME.with_name("dolce-demo") if demo else HOME)
    make_samples(folder, report=lambda text: print(text, flush=True))
    fits = FittingProcess()
    services = open_services(folder, compute=fits)
    try:
        services.jobs.started()
        listening = _listening(port)
        application = _application(services, listening)
        server = _server(application, listening)

        def end(_number: int, _frame: FrameType | None) -> None:
            sys.exit(0)

        # Also where it was started with interrupts ignored, as a script does in its background.
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, end)
        prepare_process(services)
        threading.Thread(target=load_the_rest, args=(application,), daemon=True).start()
        services.preparing.begin()
        print(f"Dolce is at http://127.0.0.1:{server.effective_port}  (Ctrl-C ends it)", flush=True)
        try:
            server.run()
        finally:
            application.extensions["dolce-remote"].close()
            server.close()
    finally:
        services.close()
        fits.close()
