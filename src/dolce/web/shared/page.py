"""What every route does at its end: render a stop as a page, or as the part that htmx swaps."""

from collections.abc import Callable

from flask import Response, current_app, make_response, redirect, render_template, request, url_for

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


def after_change(stop: str, job_id: int, show: Callable[[int], Response], **query: str) -> Response:
    """After a change: the fragment for htmx, else back to the page, so that a reload does not repeat it."""
    if request.headers.get("HX-Request"):
        return show(job_id)
    return redirect(url_for(f"{stop}.page", job_id=job_id, **query), 303)


def download(data: bytes, name: str, media_type: str) -> Response:
    """Bytes as a file to keep."""
    response = make_response(data)
    response.headers["Content-Type"] = media_type
    safe = "".join(c for c in name if c.isalnum() or c in "-_. ") or "download"
    response.headers["Content-Disposition"] = f'attachment; filename="{safe}"'
    return response
