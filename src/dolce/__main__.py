"""The `dolce` command: joins the terminal and the pages, which know nothing of each other."""

import gc
import sys
from pathlib import Path

from dolce.cli.main import run


def _serve(*, folder: Path | None, port: int, demo: bool) -> None:
    """Serve the pages; imported only when asked for, so that batch commands start quickly.

    What is imported stays to the end: looking for waste among it meanwhile takes a tenth of the time.
    """
    gc.disable()
    from dolce.web.serving import serve

    gc.enable()
    serve(folder=folder, port=port, demo=demo)


def main(arguments: list[str] | None = None) -> int:
    """Run one command; 0 on success, 2 where the input is wrong."""
    return run(sys.argv[1:] if arguments is None else arguments, serve=_serve)


if __name__ == "__main__":
    raise SystemExit(main())
