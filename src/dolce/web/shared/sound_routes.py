"""The stop button, on every page."""

from flask import Blueprint, Response, make_response, render_template

from dolce.web.shared.page import services

blueprint = Blueprint("sound", __name__)


@blueprint.post("/sound/stop")
def stop() -> Response:
    """Silence, whatever plays."""
    playing = services().sound.stop()
    notice = "Sound stopped. Finished takes are kept." if playing else "Nothing was playing."
    return make_response(render_template("_notice.html", notice=notice))
