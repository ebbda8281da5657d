"""Routes of the Align stop."""

from collections.abc import Callable

from flask import Blueprint, Response, request

from dolce.core.tuning import ChannelAlignment
from dolce.errors import InvalidForm, InvalidValue, Outdated
from dolce.services.load.misfit_words import misfit_words
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.align.views import LadderView

blueprint = Blueprint("align", __name__, url_prefix="/jobs/<int:job_id>/align", template_folder="templates")


def _show(job_id: int, **context: object) -> Response:
    view = services().aligning.view(job_id)
    return show_stop("align", job_id, view=view, ladder=LadderView.of(view), misfit_words=misfit_words,
                     **{"faults": {}, "typed": {}, **context})


@blueprint.get("")
def page(job_id: int) -> Response:
    """Ladder and table."""
    return _show(job_id)


@blueprint.post("/start-from")
def start_from(job_id: int) -> Response:
    """Read from another round."""
    services().aligning.start_from(job_id, whole_of(request.form.get("round")) or 0)
    return after_change("align", job_id, _show)


@blueprint.post("/levels-over")
def levels_over(job_id: int) -> Response:
    """The seats that levels are matched over; an empty name for the main seat alone."""
    view, name = services().aligning.view(job_id), request.form.get("blend", "")
    blend = next((b for b in view.blends if b.name == name), None)
    if name and blend is None:
        raise InvalidValue(f"{name!r} is not a choice of seats.", where="levels over", remedy="Reload the page.")
    services().aligning.set_blend(job_id, blend)
    return after_change("align", job_id, _show)


@blueprint.post("/undo")
def undo(job_id: int) -> Response:
    """One step back."""
    return _stepped(job_id, services().aligning.undo)


@blueprint.post("/redo")
def redo(job_id: int) -> Response:
    """One step forward."""
    return _stepped(job_id, services().aligning.redo)


def _stepped(job_id: int, step: Callable[..., None]) -> Response:
    """A step, or what another tab did meanwhile."""
    try:
        step(job_id, seen=request.form.get("seen", ""))
    except Outdated as error:
        return _show(job_id, status=409, notice=str(error))
    return after_change("align", job_id, _show)


@blueprint.post("/use")
def use(job_id: int) -> Response:
    """Take over the proposal."""
    services().aligning.use_proposal(job_id)
    return after_change("align", job_id, _show)


@blueprint.post("/choose")
def choose(job_id: int) -> Response:
    """Take over what was typed."""
    ladder = LadderView.of(services().aligning.view(job_id))
    form = FormReader(request.form, kept={
        f"{name}-{row.channel}": value for row in (ladder.rows if ladder else ()) for name, value in (
            ("trim", round(row.trim_db, 1)), ("delay", round(row.delay_ms, 4)), ("polarity", row.chosen_polarity))})
    typed = {channel: (form.of(ChannelAlignment, "trim_db", typed=f"trim-{channel}"),
                       1000 * form.of(ChannelAlignment, "delay_s", typed=f"delay-{channel}", per_unit=1000, unit="ms"),
                       form.choice(f"polarity-{channel}", ("normal", "inverted")))
             for channel in services().jobs.get(job_id).channels}
    try:
        form.done()
        services().aligning.choose(job_id, typed)
    except InvalidForm as error:
        return _show(job_id, status=422, faults=error.faults, typed=request.form)
    return after_change("align", job_id, _show)
