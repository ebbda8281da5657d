"""Routes of the microphones: the shelf, and those of a job."""

from typing import Any

from flask import request
from werkzeug.wrappers import Response

from dolce.core.rig import Microphone, MicrophoneInUse
from dolce.errors import FormatError, InvalidForm, InvalidValue
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.page import download, services
from dolce.web.stops.rig.sheets import after, blueprint, on_sheet, show


def _typed(form: FormReader) -> dict:
    """Name, serial number and sensitivity, as typed."""
    values: dict[str, Any] = {
        "name": form.text("name")[:80],
        "serial": form.text("serial")[:80],
        "sensitivity_mv_pa": form.of(Microphone, "sensitivity_mv_pa") if form.filled("sensitivity_mv_pa") else None,
    }
    if not values["name"]:
        form.faults["name"] = "Give it a name."
    return values


@blueprint.post("/microphones")
@on_sheet("microphones")
def add_microphone(job_id: int) -> Response:
    """A new one on the shelf, used here at once."""
    form = FormReader(request.form)
    values = _typed(form)
    form.done()
    made = services().microphones.add(**values)
    services().microphones.use(job_id, made.id)
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>")
def edit_microphone(job_id: int, number: int) -> Response:
    """Change what is known of it."""
    form = FormReader(request.form, kept=services().microphones.get(number))
    values = _typed(form)
    try:
        form.done()
    except InvalidForm as error:
        return show(job_id, "microphones", status=422, faults={f"{k}-{number}": v for k, v in error.faults.items()})
    services().microphones.edit(number, **values)
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/use")
def use_microphone(job_id: int, number: int) -> Response:
    """Use it in this job."""
    services().microphones.use(job_id, number)
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/drop")
def drop_microphone(job_id: int, number: int) -> Response:
    """No longer use it in this job."""
    services().microphones.drop(job_id, number)
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/input")
def microphone_input(job_id: int, number: int) -> Response:
    """Which input it hangs on."""
    form = FormReader(request.form)
    chosen = int(form.of(MicrophoneInUse, "input"))
    try:
        form.done()
        services().microphones.set_input(job_id, number, chosen)
    except (InvalidForm, InvalidValue) as error:
        message = error.faults["input"] if isinstance(error, InvalidForm) else f"{error.problem} {error.remedy}"
        return show(job_id, "microphones", status=422, faults={f"input-{number}": message})
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/delete")
def delete_microphone(job_id: int, number: int) -> Response:
    """Off the shelf."""
    services().microphones.delete(number)
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/restore")
def restore_microphone(job_id: int, number: int) -> Response:
    """Back onto the shelf."""
    services().microphones.restore(number)
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/curve/<int:angle>")
def microphone_curve(job_id: int, number: int, angle: int) -> Response:
    """A calibration file for 0 or 90 degrees."""
    try:
        data, name = uploaded(request.files.get("curve"))
        services().microphones.read_curve(number, angle, data, file_name=name)
    except FormatError as error:
        return show(job_id, "microphones", status=422, faults={f"curve-{number}-{angle}": str(error)})
    return after(job_id, "microphones")


@blueprint.post("/microphones/<int:number>/curve/<int:angle>/drop")
def drop_curve(job_id: int, number: int, angle: int) -> Response:
    """Do without it."""
    services().microphones.drop_curve(number, angle)
    return after(job_id, "microphones")


@blueprint.post("/pointing")
def point(job_id: int) -> Response:
    """Where the microphones point."""
    form = FormReader(request.form)
    services().microphones.point(job_id, form.choice("pointing", ("speakers", "ceiling", "floor")))
    return after(job_id, "microphones")


@blueprint.post("/microphones/compare")
def compare_microphones(job_id: int) -> Response:
    """All together, one sweep."""
    services().microphones.compare(job_id)
    return after(job_id, "microphones")


@blueprint.get("/rehearsal-microphone-<int:angle>.txt")
def rehearsal_curve(job_id: int, angle: int) -> Response:
    """A calibration file of the simulated microphone."""
    return download(services().microphones.rehearsal_curve(angle), f"rehearsal-microphone-{angle}.txt", "text/plain")
