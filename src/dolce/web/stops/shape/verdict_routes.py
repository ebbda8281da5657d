"""Routes of verdicts, seat weightings and versions."""

from flask import request
from werkzeug.wrappers import Response

from dolce.core.correction import VERDICTS, Overruled
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import number_of
from dolce.web.shared.page import services
from dolce.web.stops.shape.sheets import blueprint, edited, on_sheet


@blueprint.post("/verdicts/<channel>")
@on_sheet("evidence")
def overrule(job_id: int, channel: str) -> Response:
    """Give a region another verdict, with a reason."""
    form = FormReader(request.form)
    low, high = form.of(Overruled, "from_hz", typed="region_from"), form.of(Overruled, "to_hz", typed="region_to")
    verdict = form.choice("verdict", VERDICTS)
    form.done()
    with form.blaming({"reason": "reason", "to": "region_to", "from": "region_from"}, "reason"):
        overruled = Overruled(from_hz=low, to_hz=high, verdict=verdict, reason=form.text("reason"))
    return edited(job_id, lambda: services().shaping.overrule(job_id, channel, overruled), sheet="evidence")


@blueprint.post("/verdicts/<channel>/follow")
def follow_evidence(job_id: int, channel: str) -> Response:
    """Take back what was overruled."""
    at = number_of(request.form.get("at", "")) or 0.0
    return edited(job_id, lambda: services().shaping.follow_evidence(job_id, channel, at), sheet="evidence")


@blueprint.post("/seat weightings/weights")
@on_sheet("seat_weighting")
def weights(job_id: int) -> Response:
    """A seat weighting of one's own."""
    form = FormReader(request.form)
    seats = services().jobs.get(job_id).plan.seats
    found = {seat.id: form.number(f"weight-{seat.id}", low=0, high=10, default=0.0) for seat in seats}
    name = form.text("seat_weighting_name")[:60]
    form.done()
    with form.blaming({}, "weights"):
        services().versions.set_weights(job_id, name, found)
    return edited(job_id, lambda: None, sheet="seat_weighting")


@blueprint.post("/versions/keep")
@on_sheet("seat_weighting")
def keep_version(job_id: int) -> Response:
    """Keep the present correction by name."""
    form = FormReader(request.form)
    with form.blaming({}, "version_name"):
        services().versions.keep(job_id, form.text("version_name"), form.text("note"))
    return edited(job_id, lambda: None, sheet="seat_weighting")


@blueprint.post("/versions/<int:number>/use")
def use_version(job_id: int, number: int) -> Response:
    """Make a kept correction the present one."""
    return edited(job_id, lambda: services().versions.use(job_id, number), sheet="seat_weighting")


@blueprint.post("/versions/<int:number>/forget")
def forget_version(job_id: int, number: int) -> Response:
    """Forget a kept one."""
    return edited(job_id, lambda: services().versions.forget(job_id, number), sheet="seat_weighting")
