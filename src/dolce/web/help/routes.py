"""The guide inside the application."""

from flask import Blueprint, Response, make_response, render_template
from markupsafe import Markup

from dolce.web.help.terms import groups, guide_text, keys

blueprint = Blueprint("help", __name__, template_folder="templates")


@blueprint.get("/help")
def page() -> Response:
    """Guide, words and keys."""
    from markdown_it import MarkdownIt

    # Pictures stand in the documents; here the application itself is in front of one.
    guide = Markup(MarkdownIt("commonmark", {"html": False}).render("\n".join(
        line for line in guide_text().splitlines() if not line.lstrip().startswith("!["))))
    return make_response(render_template("help/page.html", guide=guide, groups=groups(), keys=keys()))
