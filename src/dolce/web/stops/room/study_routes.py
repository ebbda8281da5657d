"""Routes of what was found: places of subs, findings."""

from flask import request
from werkzeug.wrappers import Response

from dolce.core.geometry import Point
from dolce.errors import InvalidValue
from dolce.web.shared.numbers import number_of
from dolce.web.shared.page import services
from dolce.web.stops.room.sheets import blueprint, changed


@blueprint.post("/subs")
def place_subs(job_id: int) -> Response:
    """The subs go to ranked places."""
    axes = [
        [number for part in text.split() if (number := number_of(part)) is not None]
        for text in request.form.getlist("place")[:4]
    ]
    if any(len(place) != 3 for place in axes):
        raise InvalidValue("these are no places.", where="subs", remedy="Rank the places again.")
    places = [Point(x_m=x, y_m=y, z_m=z) for x, y, z in axes]
    return changed(job_id, lambda: services().room.place_subs(job_id, places), ghosts=True)


@blueprint.post("/findings/dismiss")
def dismiss(job_id: int) -> Response:
    """Set a finding aside with a reason."""
    return changed(
        job_id,
        lambda: services().room.dismiss(job_id, request.form.get("key", ""), reason=request.form.get("reason", "")),
        fault="reason",
    )


@blueprint.post("/findings/take-up")
def take_up(job_id: int) -> Response:
    """Bring a finding back."""
    return changed(job_id, lambda: services().room.take_up(job_id, request.form.get("key", "")))
