"""What every route does at its end: render a stop as a page, or as the part that htmx swaps."""

import io
from collections.abc import Callable, Iterator
from typing import IO, Any

from flask import current_app, make_response, redirect, render_template, request, send_file, url_for
from werkzeug.wrappers import Response

from dolce.services.wiring import Services


def services() -> Services:
    """The opened services of this application."""
    return current_app.extensions["dolce"]


def show_stop(stop: str, job_id: int, *, status: int = 200, **context: object) -> Response:
    """The stop's page, or its fragment with the header's state for a request by htmx.

    `page.html` includes the very fragment, so that a reload shows the same.
    """
    state = services().progress.status(job_id)
    template = "swap.html" if request.headers.get("HX-Request") else f"{stop}/page.html"
    return make_response(render_template(template, stop=stop, status=state, job=state.job, **context), status)


def after_change(stop: str, job_id: int, show: Callable[[int], Response], **query: Any) -> Response:
    """After a change: the fragment for htmx, else back to the page, so that a reload does not repeat it."""
    if request.headers.get("HX-Request"):
        return show(job_id)
    return redirect(url_for(f"{stop}.page", job_id=job_id, **query), 303)


def download(data: bytes | IO[bytes], name: str, media_type: str) -> Response:
    """Bytes, or a file open at its beginning, as a file to keep."""
    file = io.BytesIO(data) if isinstance(data, bytes) else data
    # Names in any script: Werkzeug writes them as RFC 6266 has it.
    response = send_file(file, mimetype=media_type, as_attachment=True, download_name=_plain(name), max_age=0)
    response.call_on_close(file.close)
    return response


def stream(parts: Iterator[bytes], name: str, media_type: str) -> Response:
    """A file to keep that is sent while it is made; `name` in ASCII."""
    response = current_app.response_class(parts, mimetype=media_type)
    response.headers.set("Content-Disposition", "attachment", filename=_plain(name))
    response.cache_control.no_cache = True
    return response


def _plain(name: str) -> str:
    return "".join(c for c in name if c.isalnum() or c in "-_. '&+,()") or "download"
