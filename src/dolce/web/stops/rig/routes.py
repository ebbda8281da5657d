"""Routes of the Rig stop."""

from flask import Blueprint, Response, request

from dolce.core.job import SAMPLE_RATES_HZ
from dolce.errors import FormatError, InvalidForm
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.page import after_change, download, services, show_stop
from dolce.web.stops.rig.views import curve_plot

blueprint = Blueprint("rig", __name__, url_prefix="/jobs/<int:job_id>/rig", template_folder="templates")
_PACES = ("real time", "fast")


def _show(job_id: int, **context: object) -> Response:
    rig = services().jobs.get(job_id).rig
    return show_stop("rig", job_id, rig=rig, rates=SAMPLE_RATES_HZ, curve=curve_plot(rig.curve),
                     readings=services().rigging.level_readings(job_id),
                     check=services().sound.latest(job_id, "level"), **{"faults": {}, "typed": {}, **context})


@blueprint.get("")
def page(job_id: int) -> Response:
    """Interface, microphone, level."""
    return _show(job_id)


@blueprint.post("/settings")
def settings(job_id: int) -> Response:
    """Rate, pace, sweep, gain."""
    form = FormReader(request.form)
    changes = {
        "sample_rate_hz": int(form.choice("sample_rate_hz", tuple(map(str, SAMPLE_RATES_HZ)))),
        "pace": form.choice("pace", _PACES),
        "sweep_level_dbfs": form.number("sweep_level_dbfs", low=-60, high=-3, unit="dBFS"),
        "sweep_seconds": form.number("sweep_seconds", low=1, high=20, unit="s"),
        "microphone_gain_db": form.number("microphone_gain_db", low=-20, high=60, unit="dB"),
    }
    return _changed(job_id, form, changes)


@blueprint.post("/microphone")
def microphone(job_id: int) -> Response:
    """Name and serial number."""
    form = FormReader(request.form)
    changes = {"microphone_name": form.text("microphone_name")[:80],
               "microphone_serial": form.text("microphone_serial")[:80]}
    return _changed(job_id, form, changes)


def _changed(job_id: int, form: FormReader, changes: dict) -> Response:
    try:
        form.done()
    except InvalidForm as error:
        return _show(job_id, status=422, faults=error.faults, typed=request.form)
    services().rigging.set_rig(job_id, **changes)
    return after_change("rig", job_id, _show)


@blueprint.post("/curve")
def curve(job_id: int) -> Response:
    """A calibration file."""
    try:
        data, name = uploaded(request.files.get("curve"))
        services().rigging.set_curve(job_id, data, file_name=name)
    except FormatError as error:
        return _show(job_id, status=422, faults={"curve": str(error)})
    return after_change("rig", job_id, _show)


@blueprint.post("/curve/drop")
def drop_curve(job_id: int) -> Response:
    """Do without it."""
    services().rigging.drop_curve(job_id)
    return after_change("rig", job_id, _show)


@blueprint.get("/rehearsal-microphone.txt")
def rehearsal_curve(job_id: int) -> Response:
    """The calibration file of the simulated microphone."""
    return download(services().rigging.rehearsal_curve(), "rehearsal-microphone.txt", "text/plain")


@blueprint.post("/check")
def check(job_id: int) -> Response:
    """Start the level check."""
    services().rigging.check_level(job_id)
    return after_change("rig", job_id, _show)
