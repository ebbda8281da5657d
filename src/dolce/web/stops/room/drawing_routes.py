"""Routes of what stands in the room and of its shape: drawings, outline, reverberation."""

from flask import request
from werkzeug.wrappers import Response

from dolce.core.geometry import Point
from dolce.core.room import BOX_KINDS, SURFACES, Box, DecaySource, Reverberation
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.room.sheets import blueprint, changed, seen, units_of

_BOX_SIZES = {
    "desk": (1.6, 0.75, 0.04, 0.72),
    "sofa": (2.0, 0.9, 0.8, 0.0),
    "screen": (2.0, 0.05, 1.2, 0.8),
    "door": (0.9, 0.08, 2.0, 0.0),
    "window": (1.2, 0.08, 1.2, 0.9),
    "cabinet": (0.8, 0.6, 1.8, 0.0),
    "other": (1.0, 1.0, 0.5, 0.0),
}  # width, depth, height, underside in m


@blueprint.post("/boxes")
def add_box(job_id: int) -> Response:
    """A desk, sofa, screen ... before the main seat, to be moved."""
    form = FormReader(request.form)
    kind = form.choice("kind", BOX_KINDS)
    plan = services().jobs.get(job_id).plan
    width, depth, height, underside = _BOX_SIZES[kind]
    seat = plan.main_seat.place
    number = max((b.id for b in plan.boxes), default=0) + 1

    def change() -> None:
        form.done()
        services().room.add_box(
            job_id,
            Box(
                id=number,
                kind=kind,
                width_m=min(width, plan.size.width_m),
                depth_m=depth,
                height_m=height,
                place=Point(x_m=seat.x_m, y_m=max(0.1, seat.y_m - 0.75), z_m=underside),
            ),
        )

    return changed(job_id, change, pick=f"box-{number}")


@blueprint.post("/boxes/<int:box_id>")
def set_box(job_id: int, box_id: int) -> Response:
    """Name and size of a drawing."""
    job = services().jobs.get(job_id)
    box = job.plan.box(box_id)
    form = FormReader(request.form, kept={"box_name": box.name})
    sizes = {
        f"{name}_m": form.length_of(Box, f"{name}_m", typed=f"box_{name}", units=job.units, now=now)
        for name, now in (("width", box.width_m), ("depth", box.depth_m), ("height", box.height_m))
    }

    def change() -> None:
        form.done()
        services().room.set_box(job_id, box_id, name=form.text("box_name")[:40], **sizes)

    return changed(job_id, change, fault="box")


@blueprint.post("/boxes/<int:box_id>/remove")
def remove_box(job_id: int, box_id: int) -> Response:
    """A drawing goes."""
    return changed(job_id, lambda: services().room.remove_box(job_id, box_id), pick="")


@blueprint.post("/outline/start")
def start_outline(job_id: int) -> Response:
    """The box's corners, to be moved."""
    return changed(job_id, lambda: services().room.start_outline(job_id), pick="corner-1")


@blueprint.post("/outline")
def set_outline(job_id: int) -> Response:
    """Corners as typed."""
    units = units_of(job_id)
    corners: list[tuple[float, float]] = []
    texts = zip(request.form.getlist("cx"), request.form.getlist("cy"), strict=False)
    form = FormReader({})
    for number, (x, y) in enumerate(texts, 1):
        point = FormReader({"x": x, "y": y})
        x_m, y_m = (point.length_m(axis, low=0, high=30, units=units) for axis in "xy")
        corners.append((x_m, y_m))
        if point.faults:
            form.faults["outline"] = f"Corner {number}: {' '.join(point.faults.values())}"

    def change() -> None:
        form.done()
        services().room.set_outline(job_id, corners)

    return changed(job_id, change, fault="outline")


@blueprint.post("/outline/clear")
def clear_outline(job_id: int) -> Response:
    """A plain box again."""
    return changed(job_id, lambda: services().room.set_outline(job_id, ()), pick="")


@blueprint.post("/outline/corners/<int:number>/add")
def add_corner(job_id: int, number: int) -> Response:
    """A corner in the middle of the wall behind this one."""
    return changed(job_id, lambda: services().room.add_corner(job_id, number, seen=seen()), pick=f"corner-{number + 1}")


@blueprint.post("/outline/corners/<int:number>/remove")
def remove_corner(job_id: int, number: int) -> Response:
    """One corner less."""
    return changed(job_id, lambda: services().room.remove_corner(job_id, number, seen=seen()), pick="")


@blueprint.post("/reverberation")
def set_reverberation(job_id: int) -> Response:
    """A typed time, or what the surfaces are made of."""
    old = services().jobs.get(job_id).plan.reverberation
    form = FormReader(request.form)
    source: DecaySource = form.choice("decay_source", ("typed", "surfaces"))
    typed = form.of(Reverberation, "typed_s", default=old.typed_s)
    surfaces = {s: request.form.get(f"surface-{k}", old.surfaces[s]) for k, s in enumerate(SURFACES)}

    def change() -> None:
        form.done()
        services().room.set_reverberation(job_id, Reverberation(source=source, typed_s=typed, surfaces=surfaces))

    return changed(job_id, change, fault="decay")
