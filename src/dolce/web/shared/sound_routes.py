"""The stop button, on every page."""

from flask import Blueprint, make_response, render_template
from werkzeug.wrappers import Response

from dolce.web.shared.page import services

blueprint = Blueprint("sound", __name__)

STOP_WORDS = {
    "stopped": "Sound stopped. Finished takes are kept.",
    "ended by itself": "It had just ended by itself. Nothing plays now.",
    "not begun": "Nothing was playing. What had just been asked for does not begin.",
    "nothing": "Nothing was playing.",
    "quiet": "Silent. What was heard last is still being read; finished takes are kept.",
    "not silent": "The audio device has not answered. Turn the amplifier down or pull the plug.",
}


@blueprint.post("/sound/stop")
def stop() -> Response:
    """Silence, whatever plays, from any page however old: it needs no token, since all it does is silence."""
    outcome = services().sound.stop()
    return make_response(render_template("_notice.html", notice=STOP_WORDS[outcome], fault=outcome == "not silent"))
