"""The guide inside the application."""

import re

from flask import Blueprint, make_response, render_template, url_for
from markupsafe import Markup
from werkzeug.wrappers import Response

from dolce.web.help.terms import groups, guide_text, keys

blueprint = Blueprint("help", __name__, template_folder="templates")
_PICTURE = re.compile(r"\]\(screenshots/([\w-]+)\.png\)")
_DOCUMENT = re.compile(r" ?\(\[[\w ]+\]\([\w-]+\.md\)\)")  # stands beside the guide in docs, and nowhere here
_HEADING = re.compile(r"<h2>([^<]+)</h2>")


@blueprint.get("/help")
def page() -> Response:
    """Guide, words and keys."""
    from markdown_it import MarkdownIt

    # The documents have pictures at their full size; here small ones lie beside the styles.
    text = _PICTURE.sub(lambda found: f"]({url_for('static', filename=f'guide/{found[1]}.webp')})", guide_text())
    html = MarkdownIt("commonmark", {"html": False}).enable("table").render(_DOCUMENT.sub("", text))
    guide = Markup(_HEADING.sub(lambda found: f'<h2 id="{found[1].lower().replace(" ", "-")}">{found[1]}</h2>', html))
    return make_response(render_template("help/page.html", guide=guide, groups=groups(), keys=keys()))
