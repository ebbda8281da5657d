"""Routes of the Read stop."""

from flask import Blueprint, Response, request

from dolce.services.read.curve_export import curves_csv
from dolce.web.shared.page import download, services, show_stop
from dolce.web.stops.read.asked import scale_of, wish_of
from dolce.web.stops.read.views import QUESTIONS, SMOOTHING_WORDS, ReadPage, front_row, together

blueprint = Blueprint("read", __name__, url_prefix="/jobs/<int:job_id>/read", template_folder="templates")


@blueprint.get("")
def page(job_id: int) -> Response:
    """What was chosen."""
    view = services().reading.view(job_id, wish_of(request.args))
    return show_stop("read", job_id, read=ReadPage.of(view, scale_of(request.args)), view=view, wish=view.wish,
                     questions=QUESTIONS, smoothings=SMOOTHING_WORDS, front_row=front_row, together=together)


@blueprint.get("/curves.csv")
def curves(job_id: int) -> Response:
    """The levels that were chosen, as a table."""
    view = services().reading.view(job_id, wish_of(request.args))
    return download(curves_csv(view), f"{view.job.name} {view.round.name} curves.csv", "text/csv")


@blueprint.get("/<int:take_id>/impulse.wav")
def impulse(job_id: int, take_id: int) -> Response:
    """The impulse response of a take."""
    data, name = services().reading.impulse(job_id, take_id)
    return download(data, name, "audio/wav")
