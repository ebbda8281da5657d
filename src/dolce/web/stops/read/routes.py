"""Routes of the Read stop."""

from flask import Blueprint, Response, request

from dolce.services.read.reading import SMOOTHINGS, ReadWish
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import services, show_stop
from dolce.web.stops.read.views import read_plot

blueprint = Blueprint("read", __name__, url_prefix="/jobs/<int:job_id>/read", template_folder="templates")


@blueprint.get("")
def page(job_id: int) -> Response:
    """One plot for what was chosen."""
    args = request.args
    wish = ReadWish(round_id=whole_of(args.get("round")), channels=tuple(args.getlist("channel")),
                    spot=whole_of(args.get("spot")), smoothing=args.get("smoothing", "1/12"),
                    view=args.get("view", "level"))
    view = services().reading.view(job_id, wish)
    return show_stop("read", job_id, view=view, plot=read_plot(view), smoothings=list(SMOOTHINGS))
