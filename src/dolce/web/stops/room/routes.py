"""Routes of the Room stop: the page, undo, size and layout, and moving things; the rest has modules of its own."""

from flask import make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.geometry import Point, RoomSize
from dolce.core.room import LAYOUT_NAMES, place_of
from dolce.errors import InvalidForm, InvalidValue
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import services
from dolce.web.stops.room import drawing_routes, file_routes, speaker_routes, spot_routes, study_routes  # noqa: F401
from dolce.web.stops.room.sheets import blueprint, changed, seen, show
from dolce.web.stops.room.views import RoomPage

__all__ = ["blueprint"]


@blueprint.get("")
def page(job_id: int) -> Response:
    """Drawings, the picked thing, and one of the sheets."""
    return show(job_id)


@blueprint.post("/undo")
def undo(job_id: int) -> Response:
    """Take the last change back."""
    return changed(job_id, lambda: services().room.undo(job_id, seen=seen()))


@blueprint.post("/redo")
def redo(job_id: int) -> Response:
    """Do it again."""
    return changed(job_id, lambda: services().room.redo(job_id, seen=seen()))


@blueprint.post("/put-back", endpoint="put_back")
def put_back(job_id: int) -> Response:
    """The thing that was just moved goes back."""
    return changed(job_id, lambda: services().room.undo(job_id, seen=seen()))


@blueprint.post("/size")
def set_size(job_id: int) -> Response:
    """Length, width, height, temperature."""
    job = services().jobs.get(job_id)
    form = FormReader(request.form, kept={"temperature": job.room.temperature_c})
    length, width, height = (
        form.length_of(RoomSize, f"{name}_m", typed=name, units=job.units, now=getattr(job.room, f"{name}_m"))
        for name in ("length", "width", "height")
    )
    temperature = form.of(RoomSize, "temperature_c", typed="temperature")

    def change() -> None:
        form.done()
        services().room.set_size(
            job_id, RoomSize(length_m=length, width_m=width, height_m=height, temperature_c=temperature)
        )

    return changed(job_id, change, fault="size")


@blueprint.post("/layout")
def set_layout(job_id: int) -> Response:
    """Another layout or number of subs."""
    form = FormReader(request.form)
    layout, subs = form.choice("layout", LAYOUT_NAMES), form.whole("subs", low=0, high=4)

    def change() -> None:
        form.done()
        services().room.set_layout(job_id, layout, subs=subs)

    return changed(job_id, change)


@blueprint.post("/mirror")
def set_mirror(job_id: int) -> Response:
    """Whether pairs move mirrored."""
    return changed(job_id, lambda: services().room.set_mirror(job_id, "mirror" in request.form))


def _place(job_id: int, thing: str, form: FormReader) -> Point:
    """A place typed in the job's units, or dragged (metres); what was not typed stays."""
    if request.form.get("dragged"):
        return Point(**{f"{axis}_m": round(form.number(axis, low=-100, high=100), 4) for axis in "xyz"})
    job = services().jobs.get(job_id)
    now, units, values = place_of(job.plan, thing), job.units, []
    for axis, here in (("x", now.x_m), ("y", now.y_m), ("z", now.z_m)):
        if axis in request.form:
            here = form.length_m(axis, low=-100, high=100, units=units, now=here)
        values.append(round(here, 4))
    return Point(x_m=values[0], y_m=values[1], z_m=values[2])


@blueprint.post("/move/<thing>")
def move(job_id: int, thing: str) -> Response:
    """A new place for a speaker, seat, spot, drawing or corner."""
    form = FormReader(request.form)
    place = _place(job_id, thing, form)

    def change() -> None:
        if form.faults:
            raise InvalidForm({thing: " ".join(f"{axis}: {text}" for axis, text in form.faults.items())})
        services().room.move(job_id, thing, place, seen=seen())

    return changed(job_id, change, fault=thing, ghosts=True, pick=thing)


@blueprint.post("/what-if")
def what_if(job_id: int) -> Response:
    """Figures and findings as they would be, while something is dragged; nothing is kept."""
    thing = request.form.get("thing", "")
    form = FormReader(request.form)
    place = _place(job_id, thing, form)
    form.done()
    try:
        view = services().room.what_if(job_id, thing, place)
    except InvalidValue as error:
        return make_response(f'<p id="room-live" data-live class="fault-text">{error.problem}</p>', 200)
    sheet = "findings" if request.form.get("sheet") == "findings" else "places"
    moved = {key: [p.x_m, p.y_m, p.z_m] for key in view.ghosts if key != thing for p in (place_of(view.plan, key),)}
    if thing.startswith("seat-"):
        moved |= {
            f"spot-{s.id}": [s.place.x_m, s.place.y_m, s.place.z_m]
            for s in view.plan.spots_of(whole_of(thing[5:]) or 0)
        }
    return make_response(
        render_template(
            "room/_what_if.html",
            job=view.job,
            moved=moved,
            faults={},
            typed={},
            page=RoomPage.while_moving(view, sheet=sheet, pick=thing),
        )
    )
