"""The application that a remote's listener serves: a code at the door, one page behind it, and nothing else."""

import secrets
from collections.abc import Callable
from functools import wraps
from typing import TYPE_CHECKING

from flask import Flask, abort, make_response, redirect, render_template, request, send_from_directory, url_for
from flask_wtf import CSRFProtect
from flask_wtf.csrf import CSRFError
from markupsafe import escape
from werkzeug.exceptions import HTTPException
from werkzeug.wrappers import Response

from dolce.core.job import PassRecord
from dolce.errors import Conflict, DolceError, NotFound
from dolce.web.remote.seat_first import COOKIE, LARGEST_FORM_BYTES, SeatFirst
from dolce.web.remote.seat_view import SEAT_PURPOSES, seat_view
from dolce.web.shared import formatting
from dolce.web.shared.made_late import COMPILED, LateRule
from dolce.web.shared.numbers import ShortInteger, seen_of
from dolce.web.shared.own_origin import asked_from_elsewhere
from dolce.web.shared.safe_headers import with_safe_headers
from dolce.web.shared.sound_routes import STOP_WORDS

if TYPE_CHECKING:
    from dolce.web.remote.session import Remote, RemoteSessions

_JOB_IS_GONE = "The job of this remote is gone. Open another one on the laptop, and switch the remote on there."
# The only files that are handed out, to anybody.
_FILES = {
    "tokens.css": "css",
    "remote.css": "css",
    "remote.js": "js",
    "htmx.min.js": "vendor/htmx-4.0.1",
    "fraunces-latin-wght-normal.woff2": "vendor/fraunces-5.3.0",
    "source-sans-3-latin-wght-normal.woff2": "vendor/source-sans-3-5.3.0",
}


def create_remote_app(sessions: "RemoteSessions", secure: bool) -> Flask:
    """What the seat may do: run the next spot, stop, repeat, go on, match subs, read a meter, leave."""
    app = Flask("dolce.web.remote", static_folder=None, template_folder="templates")
    app.config.update(
        SECRET_KEY=secrets.token_hex(32),
        SESSION_COOKIE_NAME="dolce-seat-form",
        MAX_CONTENT_LENGTH=LARGEST_FORM_BYTES,
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SECURE=secure,
        WTF_CSRF_TIME_LIMIT=None,
        WTF_CSRF_SSL_STRICT=False,
    )
    app.url_map.converters["int"] = ShortInteger
    app.url_rule_class, app.jinja_env.bytecode_cache = LateRule, COMPILED
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    formatting.register(app)
    services = sessions.services

    def known() -> "Remote | None":
        """The remote whose device asks; it may be ended by the laptop at any time, so it is looked up once."""
        return sessions.held_by(request.cookies.get(COOKIE, ""))

    def inside(route: Callable) -> Callable:
        """For the device that came in; everybody else is told nothing."""

        @wraps(route)
        def guarded(*args: object, **kwargs: object) -> Response:
            remote = known()
            if remote is None:
                return out("This device is not let in any more.", 404)
            return route(remote, *args, **kwargs)

        return guarded

    def out(words: str, status: int) -> Response:
        """Words that stay: they take the place of all that asks again."""
        if not request.headers.get("HX-Request"):
            return make_response("Nothing here." if status >= 400 else words, status)
        response = make_response(f"<p>{words}</p>", status)
        response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#seat", "innerHTML"
        return response

    def now(remote: "Remote") -> Response:
        return make_response(
            render_template(
                "remote/_now.html", view=seat_view(services, remote.job_id), sessions=sessions, remote=remote
            )
        )

    def done(remote: "Remote", what: str, act: Callable[[], object]) -> Response:
        """Do it, or say why not."""
        try:
            found = act()
        except DolceError as error:
            remote.notice, remote.is_fault = str(error), True
            return now(remote)
        remote.notice = ""
        sessions.acted("remote", what)
        if isinstance(found, PassRecord):
            remote.own_pass, remote.waits = found.id, False
        return now(remote)

    @app.before_request
    def _own_pages_only() -> Response | None:
        remote = sessions.present
        if remote is None or request.host != f"{remote.address}:{remote.port}":
            return out("The remote has ended.", 400)
        return out("Another page has asked for this; nothing was done.", 403) if asked_from_elsewhere() else None

    CSRFProtect(app)
    app.wsgi_app = SeatFirst(app.wsgi_app, sessions)  # type: ignore[method-assign]  # as Flask's documentation has it

    @app.after_request
    def _safe_headers(response: Response) -> Response:
        with_safe_headers(response)
        response.headers["Cache-Control"] = "no-store"
        return response

    @app.errorhandler(CSRFError)
    def _forged(_error: CSRFError) -> Response:
        return make_response("This page is from before.", 400)

    @app.errorhandler(DolceError)
    def _outcome_of(error: DolceError) -> Response:
        """A job that is gone or can't be read, say: words for the device that is in, which alone comes so far."""
        gone = isinstance(error, NotFound) and error.where == "jobs"
        return out(_JOB_IS_GONE if gone else str(escape(error)), 409)

    @app.errorhandler(HTTPException)
    def _plain(error: HTTPException) -> Response:
        return make_response("Nothing here.", error.code or 500)

    @app.get("/file/<name>")
    def file(name: str) -> Response:
        if name not in _FILES:
            abort(404)
        return send_from_directory(f"{app.root_path}/../static/{_FILES[name]}", name)

    @app.get("/vendor/<path:path>")
    def font(path: str) -> Response:
        """Fonts, as the style names them."""
        return file(path.rsplit("/", 1)[-1])

    @app.get("/")
    def page() -> Response:
        remote = known()
        if remote is None:
            return make_response(render_template("remote/door.html", code=""))
        view = seat_view(services, remote.job_id)
        return make_response(render_template("remote/page.html", view=view, sessions=sessions, remote=remote))

    @app.get("/in/<code>")
    def door(code: str) -> Response:
        """From the picture: the code stands there already."""
        return make_response(render_template("remote/door.html", code=code[:16]))

    @app.post("/enter")
    def enter() -> Response:
        try:
            token = sessions.enter(request.form.get("code", "")[:64], address=request.remote_addr or "")
        except Conflict as error:
            return make_response(render_template("remote/door.html", code="", fault=str(error)), 429)
        if token is None:
            return make_response(render_template("remote/door.html", code="", wrong=True), 403)
        response = redirect(url_for("page"), 303)
        response.set_cookie(COOKIE, token, httponly=True, samesite="Strict", secure=secure)
        sessions.acted("remote", "came in")
        return response

    @app.get("/now")
    @inside
    def look(remote: "Remote") -> Response:
        return now(remote)

    @app.post("/run/<int:spot>")
    @inside
    def run(remote: "Remote", spot: int) -> Response:
        return done(
            remote, "ran a spot", lambda: services.taking.run_spot(remote.job_id, spot, seen=seen_of(request.args))
        )

    @app.post("/stop")
    @inside
    def stop(remote: "Remote") -> Response:
        """Answered in a line, at once: the page looks for the rest by itself."""
        outcome = services.sound.stop()
        remote.notice, remote.is_fault = STOP_WORDS[outcome], outcome == "not silent"
        sessions.acted("remote", "stopped")
        if not request.headers.get("HX-Request"):
            return redirect(url_for("page"), 303)
        response = make_response(remote.notice)
        response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#notice", "innerHTML"
        return response

    @app.post("/go-on")
    @inside
    def go_on(remote: "Remote") -> Response:
        remote.waits = False
        return done(remote, "let it go on", services.sound.go_on)

    @app.post("/repeat/<channel>/<int:spot>")
    @inside
    def repeat(remote: "Remote", channel: str, spot: int) -> Response:
        return done(
            remote,
            "repeated a take",
            lambda: services.taking.repeat(remote.job_id, channel, spot, seen=seen_of(request.args)),
        )

    @app.post("/live/<purpose>")
    @inside
    def live(remote: "Remote", purpose: str) -> Response:
        chosen = next((seat_purpose for seat_purpose in SEAT_PURPOSES if seat_purpose == purpose), None)
        if chosen is None:
            abort(404)
        return done(remote, f"began {purpose}", lambda: services.live.start(remote.job_id, chosen))

    @app.post("/live/subs/<channel>")
    @inside
    def other_sub(remote: "Remote", channel: str) -> Response:
        return done(remote, f"chose {channel}", lambda: services.live.change(remote.job_id, "subs", channel=channel))

    @app.post("/leave")
    @inside
    def leave(_remote: "Remote") -> Response:
        sessions.acted("remote", "left")
        sessions.stop("Ended on the remote.")
        return out("The remote has ended.", 200)

    return app
