"""Routes of files: the room, its places, its plan."""

from flask import jsonify, render_template, request
from werkzeug.wrappers import Response

from dolce.services.room.room_planning import room_schema
from dolce.web.shared.form_reader import uploaded
from dolce.web.shared.page import download, services
from dolce.web.stops.room.drawing import from_above, standalone_style
from dolce.web.stops.room.sheets import blueprint, changed


@blueprint.get("/room.json")
def room_file(job_id: int) -> Response:
    """The room as JSON."""
    data, name = services().room.room_file(job_id)
    return download(data, name, "application/json")


@blueprint.get("/places.csv")
def places_file(job_id: int) -> Response:
    """The coordinates as CSV."""
    data, name = services().room.places_file(job_id)
    return download(data, name, "text/csv; charset=utf-8")


@blueprint.get("/plan.svg")
def plan_svg(job_id: int) -> Response:
    """The plan as a drawing that stands alone."""
    job = services().jobs.get(job_id)
    text = render_template(
        "room/plan.svg", job=job, plan=job.plan, style=standalone_style(), above=from_above(job.plan, units=job.units)
    )
    return download(text.strip().encode(), f"{job.name} plan.svg", "image/svg+xml")


@blueprint.get("/schema.json")
def schema(job_id: int) -> Response:
    """How a room file is built."""
    services().jobs.get(job_id)
    return jsonify(room_schema())


@blueprint.post("/file")
def use_file(job_id: int) -> Response:
    """A room from JSON, or places from CSV."""

    def change() -> None:
        data, name = uploaded(request.files.get("file"))
        services().room.use_file(job_id, data, name=name)

    return changed(job_id, change, fault="file")
