"""The guide inside the application."""

import re

from flask import Blueprint, make_response, render_template, url_for
from markupsafe import Markup
from werkzeug.wrappers import Response

from dolce.web.help.terms import groups, guide_text, keys

blueprint = Blueprint("help", __name__, template_folder="templates")
_PICTURE = re.compile(r"\]\(screenshots/([\w-]+)\.png\)")


@blueprint.get("/help")
def page() -> Response:
    """Guide, words and keys."""
    from markdown_it import MarkdownIt

    # The documents have pictures at their full size; here small ones lie beside the styles.
    text = _PICTURE.sub(lambda found: f"]({url_for('static', filename=f'guide/{found[1]}.webp')})", guide_text())
    guide = Markup(MarkdownIt("commonmark", {"html": False}).enable("table").render(text))
    return make_response(render_template("help/page.html", guide=guide, groups=groups(), keys=keys()))
