"""Routes of speakers, channels and seats."""

from typing import Any

from flask import request
from werkzeug.wrappers import Response

from dolce.core.room import Seat, Speaker
from dolce.errors import InvalidForm
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.room.sheets import blueprint, changed


@blueprint.post("/speakers/<channel>")
def set_speaker(job_id: int, channel: str) -> Response:
    """Aim, source, low limit, output, partner of a speaker."""
    kept = services().jobs.get(job_id).speaker(channel)
    form = FormReader(
        request.form,
        kept={
            "aim": kept.aim,
            "toe_in": kept.toe_in_deg,
            "source": kept.source,
            "low_limit": kept.low_limit_hz,
            "output": kept.output,
            "partner": kept.partner or "",
        },
    )
    values: dict[str, Any] = {
        "aim": form.choice("aim", ("main seat", "straight", "angle")),
        "toe_in_deg": form.of(Speaker, "toe_in_deg", typed="toe_in", unit="°", default=0.0),
        "source": form.choice("source", ("point", "line")),
        "low_limit_hz": form.of(Speaker, "low_limit_hz", typed="low_limit", default=0.0) or None,
        "output": form.of(Speaker, "output"),
        "in_wall": form.flag("in_wall"),
        "screened": form.flag("screened"),
        "partner": form.text("partner") or None,
    }

    def change() -> None:
        form.done()
        services().room.set_speaker(job_id, channel, **values)

    return changed(job_id, change, fault="speaker", pick=channel)


@blueprint.post("/channels/<code>/add")
def add_channel(job_id: int, code: str) -> Response:
    """A channel of the layout that is not there."""
    return changed(job_id, lambda: services().room.add_channel(job_id, code), pick=code)


@blueprint.post("/channels")
def add_own_channel(job_id: int) -> Response:
    """A channel of one's own."""
    code, name = request.form.get("code", "").strip(), request.form.get("channel_name", "").strip()

    def change() -> None:
        services().room.add_channel(job_id, code, name=name)

    return changed(job_id, change, fault="channel", pick=code)


@blueprint.post("/channels/<code>/remove")
def remove_channel(job_id: int, code: str) -> Response:
    """Set a channel aside."""
    return changed(job_id, lambda: services().room.remove_channel(job_id, code), pick="")


@blueprint.post("/seats")
def add_seat(job_id: int) -> Response:
    """One seat more."""
    return changed(job_id, lambda: services().room.add_seat(job_id, request.form.get("name", "")), fault="seat")


@blueprint.post("/seats/<int:seat_id>")
def set_seat(job_id: int, seat_id: int) -> Response:
    """Name, weight, whether it is the main seat."""
    form = FormReader(request.form, kept=services().jobs.get(job_id).plan.seat(seat_id))
    weight = form.of(Seat, "weight")
    name, main = form.text("name"), form.flag("main")

    def change() -> None:
        if form.faults:
            message = " ".join(f"{field.capitalize()}: {text}" for field, text in form.faults.items())
            raise InvalidForm({f"seat-row-{seat_id}": message})
        services().room.set_seat(job_id, seat_id, name=name, weight=weight, main=main)

    return changed(job_id, change, fault=f"seat-row-{seat_id}")


@blueprint.post("/seats/<int:seat_id>/remove")
def remove_seat(job_id: int, seat_id: int) -> Response:
    """A seat and its spots go."""
    return changed(job_id, lambda: services().room.remove_seat(job_id, seat_id), pick="")
