"""Serve the application on this machine only."""

import signal
import sys
from pathlib import Path
from types import FrameType

from waitress import create_server

from dolce.errors import DeviceError
from dolce.services.demo import build_demo
from dolce.services.wiring import open_services
from dolce.web import create_app

HOME = Path.home() / ".local" / "share" / "dolce"


def serve(*, folder: Path | None, port: int, demo: bool) -> None:
    """Open the data folder and answer on 127.0.0.1 until Ctrl-C or SIGTERM.

    On the first start the sample jobs are made; `demo` keeps to a folder of its own.

    Raises
    ------
    Conflict
        If the folder is open already.
    DeviceError
        If the port is taken.
    """
    services = open_services(folder or (HOME.with_name("dolce-demo") if demo else HOME))
    try:
        if not services.jobs.all() and not services.jobs.deleted():
            build_demo(services, report=lambda text: print(text, flush=True))
        try:
            server = create_server(create_app(services), host="127.0.0.1", port=port, threads=6)
        except OSError as error:
            raise DeviceError(f"port {port} is taken.", where="serve", remedy="Choose another with --port.") from error

        def end(_number: int, _frame: FrameType | None) -> None:
            sys.exit(0)

        signal.signal(signal.SIGTERM, end)
        print(f"Dolce is at http://127.0.0.1:{server.effective_port}  (Ctrl-C ends it)", flush=True)
        try:
            server.run()
        finally:
            server.close()
    finally:
        services.close()
