"""Routes of the Prove stop."""

from flask import Blueprint, Response, make_response, render_template, request

from dolce.services.prove.proving import LOGBOOK_PAGE
from dolce.web.shared.page import services, show_stop
from dolce.web.stops.prove.views import proof_plot, verdict_words

blueprint = Blueprint("prove", __name__, url_prefix="/jobs/<int:job_id>/prove", template_folder="templates")


@blueprint.get("/logbook/<int:before>")
def logbook(job_id: int, before: int) -> Response:
    """Earlier entries of the logbook."""
    return make_response(render_template("prove/_logbook.html", job=services().jobs.get(job_id),
                                         entries=services().proving.logbook(job_id, before=before),
                                         logbook_page=LOGBOOK_PAGE))


@blueprint.get("")
def page(job_id: int) -> Response:
    """Before, predicted and after, figures and the logbook."""
    view = services().proving.view(job_id)
    wanted = request.args.get("channel", "")
    channel = wanted if wanted in view.channels else next(iter(view.channels), "")
    return show_stop("prove", job_id, view=view, channel=channel, verdict=verdict_words(view),
                     logbook_page=LOGBOOK_PAGE, plot=proof_plot(view.channels[channel]) if channel else None)
