"""Routes of the Room stop."""

from flask import Blueprint, Response, request

from dolce.core.geometry import Point, RoomSize
from dolce.errors import InvalidForm, InvalidValue
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.room.views import PlanView

blueprint = Blueprint("room", __name__, url_prefix="/jobs/<int:job_id>/room", template_folder="templates")


def _show(job_id: int, **context: object) -> Response:
    view = services().room.view(job_id)
    return show_stop("room", job_id, room=view, plan=PlanView.of(view), **{"faults": {}, "typed": {}, **context})


@blueprint.get("")
def page(job_id: int) -> Response:
    """Plan and tables."""
    return _show(job_id)


@blueprint.post("/size")
def set_size(job_id: int) -> Response:
    """Length, width, height, temperature."""
    units = services().jobs.get(job_id).units
    form = FormReader(request.form)
    length = form.length_m("length", low=1, high=30, units=units)
    width = form.length_m("width", low=1, high=30, units=units)
    height = form.length_m("height", low=1.5, high=12, units=units)
    temperature = form.number("temperature", low=0, high=40, unit="°C")
    try:
        form.done()
        services().room.set_size(job_id, RoomSize(length_m=length, width_m=width, height_m=height,
                                                  temperature_c=temperature))
    except InvalidForm as error:
        return _show(job_id, status=422, faults=error.faults, typed=request.form)
    except InvalidValue as error:
        # Something would stand outside: say which, beside the size.
        faults = {"size": f"{error.where}: {error.problem} Move it first, or choose a larger room."}
        return _show(job_id, status=422, faults=faults, typed=request.form)
    return after_change("room", job_id, _show)


@blueprint.post("/move/<thing>")
def move(job_id: int, thing: str) -> Response:
    """A new place for a speaker, the seat or a spot; typed in the job's unit, or dragged (metres)."""
    units = "metres" if request.form.get("dragged") else services().jobs.get(job_id).units
    form = FormReader(request.form)
    axes = {axis: form.length_m(axis, low=-100, high=100, units=units) for axis in "xyz"}
    try:
        form.done()
        services().room.move(job_id, thing, Point(x_m=round(axes["x"], 4), y_m=round(axes["y"], 4),
                                                  z_m=round(axes["z"], 4)))
    except InvalidForm as error:
        return _show(job_id, status=422, faults={f"{thing}": " ".join(error.faults.values())})
    except InvalidValue as error:
        return _show(job_id, status=422, faults={thing: f"{error.problem} {error.remedy}"})
    return after_change("room", job_id, _show)


@blueprint.post("/seat")
def name_seat(job_id: int) -> Response:
    """The seat's name."""
    try:
        services().room.name_seat(job_id, request.form.get("name", ""))
    except InvalidValue as error:
        return _show(job_id, status=422, faults={"name": error.problem}, typed=request.form)
    return after_change("room", job_id, _show)


@blueprint.post("/cluster")
def make_cluster(job_id: int) -> Response:
    """New spots around the seat."""
    units = services().jobs.get(job_id).units
    form = FormReader(request.form)
    count = form.whole("count", low=1, high=25)
    spacing = form.length_m("spacing", low=0.05, high=1.5, units=units)
    try:
        form.done()
    except InvalidForm as error:
        return _show(job_id, status=422, faults=error.faults, typed=request.form)
    services().room.make_cluster(job_id, count=count, spacing_m=spacing)
    return after_change("room", job_id, _show)


@blueprint.post("/spots/<int:number>/remove")
def remove_spot(job_id: int, number: int) -> Response:
    """One spot less."""
    services().room.remove_spot(job_id, number)
    return after_change("room", job_id, _show)
