"""The laptop's side of the remote: switch it on for a job, show the picture to scan, end it."""

from flask import Blueprint, current_app, make_response, redirect, render_template, request, url_for
from markupsafe import Markup
from werkzeug.wrappers import Response

from dolce.web.remote.session import RemoteSessions, addresses
from dolce.web.shared.page import services

blueprint = Blueprint("remote", __name__, url_prefix="/jobs/<int:job_id>/remote", template_folder="templates")


def sessions() -> RemoteSessions:
    """The remote sessions of this application."""
    return current_app.extensions["dolce-remote"]


def qr_code(remote_url: str, code: str) -> Markup:
    """The address with its code as a QR code, SVG."""
    import segno

    return Markup(segno.make(f"{remote_url}/in/{code}", error="m").svg_inline(scale=6, border=3))


@blueprint.get("")
def page(job_id: int) -> Response:
    """Its state, with the picture while nobody has come in."""
    status, present = services().progress.status(job_id), sessions().present
    here = present if present is not None and present.job_id == job_id else None
    return make_response(
        render_template(
            "remote/laptop.html",
            stop="takes",
            status=status,
            job=status.job,
            sessions=sessions(),
            remote=here,
            elsewhere=present is not None and here is None,
            addresses=addresses(),
            qr_code=qr_code(here.url, here.code) if here is not None and not here.token else None,
        )
    )


@blueprint.post("/start")
def start(job_id: int) -> Response:
    """Switch it on."""
    sessions().start(job_id, address=request.form.get("address", ""), secure=request.form.get("secure") != "no")
    return redirect(url_for("remote.page", job_id=job_id), 303)


@blueprint.post("/stop")
def stop(job_id: int) -> Response:
    """End it, for whichever job it was."""
    sessions().stop("Ended on the laptop.")
    return redirect(url_for("remote.page", job_id=job_id), 303)


@blueprint.post("/another")
def another(job_id: int) -> Response:
    """Let another device in."""
    sessions().another()
    return redirect(url_for("remote.page", job_id=job_id), 303)
