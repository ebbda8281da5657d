"""Kinds of errors to status codes, and to a message in the right place."""

import errno
import re
from urllib.parse import urlsplit, urlunsplit

from flask import Flask, make_response, render_template, request
from flask_wtf.csrf import CSRFError
from werkzeug.exceptions import HTTPException, RequestEntityTooLarge
from werkzeug.wrappers import Response

from dolce.errors import Conflict, DeviceError, DolceError, NotFound, StorageError

_OF_A_STOP = re.compile(r"/jobs/\d+/(room|rig|takes|read|align|shape|load|prove)")
_DISK = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO, errno.EFBIG)
_STATUS = ((NotFound, 404), (Conflict, 409), (DeviceError, 503), (StorageError, 507))


def register(app: Flask) -> None:
    """Answer every error with a page, or with a message for the page that is open."""

    @app.errorhandler(DolceError)
    def _known(error: DolceError) -> Response:
        status = next((code for kind, code in _STATUS if isinstance(error, kind)), 422)
        return answer(error, status)

    @app.errorhandler(RequestEntityTooLarge)
    def _large(_error: RequestEntityTooLarge) -> Response:
        limit = app.config["MAX_CONTENT_LENGTH"] / 2**20
        if (request.content_length or 0) <= app.config["MAX_CONTENT_LENGTH"]:
            longest = (request.max_form_memory_size or 0) / 1000
            return answer(
                DolceError(
                    f"A text of this form is longer than {longest:g} kB.",
                    remedy="Shorten it; your browser's back button brings it back.",
                ),
                413,
            )
        return answer(
            DolceError(
                f"The file is larger than {limit:g} MB.", remedy="Cut the recording shorter, or save it as FLAC."
            ),
            413,
        )

    @app.errorhandler(CSRFError)
    def _forged(_error: CSRFError) -> Response:
        return answer(DolceError("This page is from before the last start of Dolce.", remedy="Reload it."), 400)

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        return answer(DolceError(f"{error.name}.", remedy="Go back to the list of jobs."), error.code or 500)

    @app.errorhandler(OSError)
    def _disk(error: OSError) -> Response:
        if error.errno not in _DISK:
            return _unknown(error)
        return answer(
            DolceError(
                f"The disk can't take it: {error.strerror}.",
                remedy="Make room on the disk, also for temporary files, then do it again; every job is as it was.",
            ),
            507,
        )

    @app.errorhandler(Exception)
    def _unknown(error: Exception) -> Response:
        app.logger.exception("unexpected fault", exc_info=error)
        return answer(
            DolceError(
                "Something broke inside Dolce; nothing was changed.", remedy="Reload the page. The log has the details."
            ),
            500,
        )


def answer(error: DolceError, status: int) -> Response:
    """A whole page, or for htmx the message alone, put into the page's message line."""
    if request.headers.get("HX-Request"):
        response = make_response(render_template("_message.html", error=error), status)
        response.headers["HX-Retarget"] = "#messages"
        response.headers["HX-Reswap"] = "innerHTML"
        return response
    return make_response(render_template("error.html", error=error, status=status, back=_page_before()), status)


def _page_before() -> str:
    """The page that the request came from, or the stop that its address belongs to; empty where that is this one."""
    came_from = urlsplit(request.referrer or "")
    if came_from.netloc == request.host and came_from.path != request.path:
        return urlunsplit(("", "", came_from.path, came_from.query, ""))
    stop = _OF_A_STOP.match(request.path)
    return stop[0] if stop and stop[0] != request.path else ""
