"""The guide inside the application."""

from flask import Blueprint, Response, make_response, render_template
from markdown_it import MarkdownIt
from markupsafe import Markup

from dolce.web.help.terms import groups, guide_text, keys

blueprint = Blueprint("help", __name__, template_folder="templates")
_MARKDOWN = MarkdownIt("commonmark", {"html": False})


@blueprint.get("/help")
def page() -> Response:
    """Guide, words and keys."""
    # Pictures stand in the documents; here the application itself is in front of one.
    guide = Markup(_MARKDOWN.render("\n".join(
        line for line in guide_text().splitlines() if not line.lstrip().startswith("!["))))
    return make_response(render_template("help/page.html", guide=guide, groups=groups(), keys=keys()))
