"""Routes of the rows of the board: what is taken, and how."""

from flask import Blueprint, request
from werkzeug.wrappers import Response

from dolce.core.job import GROUPS
from dolce.errors import DolceError, InvalidValue
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.takes.row_views import hows_of, row_lines

blueprint = Blueprint("take_rows", __name__, url_prefix="/jobs/<int:job_id>/takes/rows", template_folder="templates")


def _show(job_id: int, *, status: int = 200, **context: object) -> Response:
    job = services().jobs.get(job_id)
    return show_stop(
        "takes",
        job_id,
        status=status,
        sheet="rows",
        lines=row_lines(job),
        own_rows=[feed for feed in job.feeds if feed.code not in job.rows.rows],
        **{"faults": {}, "typed": {}, **context},
    )


def _changed(job_id: int) -> Response:
    return after_change("take_rows", job_id, _show)


@blueprint.get("")
def page(job_id: int) -> Response:
    """What is taken."""
    return _show(job_id)


@blueprint.post("")
def keep(job_id: int) -> Response:
    """How groups and rows are played."""
    lines = row_lines(services().jobs.get(job_id))
    kept = {
        f"{line.key}-{name}": getattr(line.how, name)
        for line in lines
        for name in ("low_hz", "high_hz", "offset_db", "repeats", "sweep_s")
    }
    form = FormReader(request.form, kept=kept)
    try:
        hows = hows_of(form, lines)
    except InvalidValue as error:
        form.blame(error, {}, "rows")
        hows = {}
    if form.faults:
        return _show(job_id, status=422, faults=form.faults, typed=request.form)
    services().rows.set_how(job_id, hows)
    return _changed(job_id)


@blueprint.post("/own")
def set_apart(job_id: int) -> Response:
    """A row gets a line of its own, or goes back to its group's."""
    job, code = services().jobs.get(job_id), request.form.get("row", "")
    if code in GROUPS or code in job.rows.rows:
        services().rows.set_how(job_id, {code: None})
    else:
        services().rows.set_how(job_id, {code: job.rows.how(job.feed(code))})
    return _changed(job_id)


@blueprint.post("/combinations")
def combine(job_id: int) -> Response:
    """Several channels at once become a row."""
    try:
        services().rows.add_combination(job_id, tuple(request.form.getlist("channel")))
    except DolceError as error:
        return _show(job_id, status=422, faults={"combination": str(error)})
    return _changed(job_id)


@blueprint.post("/combinations/<code>/remove")
def remove(job_id: int, code: str) -> Response:
    """Take such a row off the board."""
    services().rows.remove_combination(job_id, code)
    return _changed(job_id)
