"""The application: configuration, safety, and the pages."""

import secrets

from flask import Flask, g, request
from flask_wtf import CSRFProtect
from werkzeug.wrappers import Response

from dolce import __version__
from dolce.services.wiring import Services
from dolce.web import errors
from dolce.web.help.routes import blueprint as help_pages
from dolce.web.help.terms import help_term, keys
from dolce.web.jobs.routes import blueprint as jobs
from dolce.web.remote.app import create_remote_app
from dolce.web.remote.laptop_routes import blueprint as remote
from dolce.web.remote.session import RemoteSessions
from dolce.web.report.routes import blueprint as report
from dolce.web.sent_bodies import require_received
from dolce.web.shared import formatting
from dolce.web.shared.made_late import COMPILED, LateRule
from dolce.web.shared.next_line import next_line
from dolce.web.shared.numbers import ShortInteger
from dolce.web.shared.own_origin import asked_from_elsewhere
from dolce.web.shared.pressed_once import Presses
from dolce.web.shared.safe_headers import with_safe_headers
from dolce.web.shared.sound_routes import blueprint as sound
from dolce.web.stops.align.routes import blueprint as align
from dolce.web.stops.load.routes import blueprint as load
from dolce.web.stops.prove.routes import blueprint as prove
from dolce.web.stops.read.routes import blueprint as read
from dolce.web.stops.rig.routes import blueprint as rig
from dolce.web.stops.room.routes import blueprint as room
from dolce.web.stops.shape.routes import blueprint as shape
from dolce.web.stops.takes.imported_file_routes import blueprint as imported_files
from dolce.web.stops.takes.routes import blueprint as takes
from dolce.web.stops.takes.row_routes import blueprint as take_rows

LARGEST_UPLOAD_BYTES = 80 * 1024 * 1024
_HOSTS = {"127.0.0.1", "localhost", "[::1]"}


def create_app(services: Services, *, cookie: str = "dolce") -> Flask:
    """The web application over opened services.

    `cookie` names the session's cookie: browsers keep cookies by host, whatever the port, so two running applications
    on one machine need names of their own.
    """
    app = Flask("dolce.web", static_folder="static", template_folder="shared/templates")
    # Sessions carry nothing but the CSRF token: a fresh key at every start is enough.
    app.config.update(
        SESSION_COOKIE_NAME=cookie,
        SECRET_KEY=secrets.token_hex(32),
        MAX_CONTENT_LENGTH=LARGEST_UPLOAD_BYTES,
        SESSION_COOKIE_SAMESITE="Strict",
        SESSION_COOKIE_HTTPONLY=True,
        WTF_CSRF_TIME_LIMIT=None,
        SEND_FILE_MAX_AGE_DEFAULT=3600,
    )
    app.extensions["dolce"], app.extensions["dolce-presses"] = services, Presses()
    sessions = app.extensions["dolce-remote"] = RemoteSessions(services, create_remote_app)
    app.jinja_env.globals["remote_sessions"] = sessions
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    formatting.register(app)
    app.jinja_env.globals.update(dolce_version=__version__, next_line=next_line, help_term=help_term, help_keys=keys)
    app.url_map.converters["int"] = ShortInteger
    app.url_rule_class, app.jinja_env.bytecode_cache = LateRule, COMPILED
    errors.register(app)

    @app.before_request
    def _own_pages_only() -> tuple[str, int] | None:
        host = request.host.rsplit(":", 1)[0]
        if host not in _HOSTS:
            return "This address is not served here.", 400
        return ("Another page has asked for this; nothing was done.", 403) if asked_from_elsewhere() else None

    @app.before_request
    def _sent_whole() -> None:
        require_received(request.environ["wsgi.input"])

    CSRFProtect(app).exempt(sound)

    @app.before_request
    def _pages_go_first() -> None:
        services.context.background.page_begins()
        g.first = True

    @app.before_request
    def _stop_holds_for_what_is_asked() -> None:
        # From here on a stop holds for whatever this request may begin.
        if request.method == "POST" and request.endpoint != "sound.stop":
            asking = services.context.sounding.asking()
            asking.__enter__()
            g.asking = asking

    @app.teardown_request
    def _asked(_error: BaseException | None) -> None:
        if g.pop("first", False):
            services.context.background.page_ends()
        asking = g.pop("asking", None)
        if asking is not None:
            asking.__exit__(None, None, None)

    @app.after_request
    def _who_acted(response: Response) -> Response:
        if request.method == "POST" and sessions.present is not None and response.status_code < 400:
            where = (request.blueprint or "").removeprefix("take_").capitalize()
            sessions.acted("laptop", "stopped" if request.endpoint == "sound.stop" else f"changed something on {where}")
        return response

    @app.after_request
    def _safe_headers(response: Response) -> Response:
        with_safe_headers(response)
        if response.mimetype == "text/html":
            response.headers["Cache-Control"] = "no-store"
        return response

    for blueprint in (
        jobs,
        sound,
        room,
        rig,
        takes,
        take_rows,
        imported_files,
        read,
        align,
        shape,
        load,
        prove,
        report,
        help_pages,
        remote,
    ):
        app.register_blueprint(blueprint)
    return app
