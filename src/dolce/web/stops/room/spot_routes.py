"""Routes of the spots."""

from flask import make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.room import COUNT, LAYER_M, LAYERS, PATTERNS, SPACING_M
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import services
from dolce.web.stops.room.drawing import from_above
from dolce.web.stops.room.sheets import blueprint, changed, units_of

_SPOTS_PER_COLUMN = 20


@blueprint.post("/spots")
def lay_out(job_id: int) -> Response:
    """Spots by a pattern."""
    form = FormReader(request.form)
    pattern, seat = form.choice("pattern", tuple(PATTERNS)), form.whole("seat", low=1, high=999)
    count = int(form.inside(COUNT, "count"))
    units = units_of(job_id)
    spacing = form.length_m("spacing", low=SPACING_M.low, high=SPACING_M.high, units=units)
    layers, step = 3, 0.15
    if form.filled("layers"):
        layers = int(form.inside(LAYERS, "layers"))
        step = form.length_m("layer_step", low=LAYER_M.low, high=LAYER_M.high, units=units)

    def change() -> None:
        form.done()
        services().room.lay_out_spots(
            job_id, pattern, seat_id=seat, count=count, spacing_m=spacing, layers=layers, layer_m=step
        )

    return changed(job_id, change)


@blueprint.post("/spots/add")
def add_spot(job_id: int) -> Response:
    """One spot more at the picked seat, or at the main one."""
    plan = services().jobs.get(job_id).plan
    pick = request.form.get("pick", "")
    seat = (whole_of(pick[5:]) if pick.startswith("seat-") else None) or plan.main_seat.id
    return changed(job_id, lambda: services().room.add_spot(job_id, seat), pick=f"spot-{plan.last_spot_id + 1}")


@blueprint.post("/spots/walk")
def walk_anew(job_id: int) -> Response:
    """Number the spots as one walks."""
    return changed(job_id, lambda: services().room.walk_anew(job_id))


@blueprint.post("/spots/<int:spot_id>/belongs")
def set_spot(job_id: int, spot_id: int) -> Response:
    """To a seat, close to a speaker, or free."""
    kind, _, which = request.form.get("to", "").partition(":")
    return changed(
        job_id,
        lambda: services().room.set_spot(
            job_id,
            spot_id,
            seat_id=(whole_of(which) or 0) if kind == "seat" else None,
            close_to=which if kind == "speaker" else "",
        ),
        pick=f"spot-{spot_id}",
    )


@blueprint.post("/spots/<int:spot_id>/remove")
def remove_spot(job_id: int, spot_id: int) -> Response:
    """One spot less."""
    return changed(job_id, lambda: services().room.remove_spot(job_id, spot_id), pick="")


@blueprint.get("/spot-sheet")
def spot_sheet(job_id: int) -> Response:
    """One page to print: the plan and the table of spots."""
    job = services().jobs.get(job_id)
    spots = job.plan.spots
    parts = [spots[k : k + _SPOTS_PER_COLUMN] for k in range(0, len(spots), _SPOTS_PER_COLUMN)]
    return make_response(
        render_template(
            "room/spot_sheet.html", job=job, plan=job.plan, parts=parts, above=from_above(job.plan, units=job.units)
        )
    )
