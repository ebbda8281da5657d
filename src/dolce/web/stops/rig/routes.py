"""Routes of the Rig stop."""

from flask import Blueprint, Response, redirect, request, url_for

from dolce.core.job import SAMPLE_RATES_HZ
from dolce.core.rig import FAULTS, Fault
from dolce.errors import FormatError, InvalidForm, InvalidValue
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.page import after_change, download, services, show_stop
from dolce.web.stops.rig.views import curve_plot, noise_bars

blueprint = Blueprint("rig", __name__, url_prefix="/jobs/<int:job_id>/rig", template_folder="templates")
_PACES = ("real time", "fast")


SHEETS = {"setup": "Setup and level", "lines": "Line check", "noise": "Noise and pressure", "faults": "Practise"}


def _show(job_id: int, **context: object) -> Response:
    """The sheet that the request names, or the one given."""
    sheet = context.pop("sheet", request.values.get("sheet"))
    sheet = sheet if sheet in SHEETS else "setup"
    rig = services().jobs.get(job_id).rig
    lines = services().lines.view(job_id) if sheet == "lines" else None
    pressure = services().pressure.view(job_id) if sheet == "noise" else None
    bars, ticks = noise_bars(pressure) if pressure else ((), ())
    cards, no_cards = services().rigging.cards() if sheet == "setup" else ([], "")
    options = [(f"{card.host}|{card.name}", f"{card.name} ({card.host}), {card.outputs} out, {card.inputs} in")
               for card in cards]
    return show_stop("rig", job_id, rig=rig, cards=cards, no_cards=no_cards, card_options=options,
                     rates=SAMPLE_RATES_HZ, curve=curve_plot(rig.curve), sheet=sheet,
                     sheets=SHEETS, lines=lines,
                     pressure=pressure, noise_bars=bars, noise_ticks=ticks, faults_known=FAULTS,
                     readings=services().rigging.level_readings(job_id),
                     check=services().sound.latest(job_id, "level"), **{"faults": {}, "typed": {}, **context})


def _show_lines(job_id: int) -> Response:
    return _show(job_id, sheet="lines")


def _show_faults(job_id: int, **context: object) -> Response:
    return _show(job_id, sheet="faults", **context)


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


@blueprint.post("/hardware")
def hardware(job_id: int) -> Response:
    """The rehearsal rig, or an audio device of this computer and its input."""
    form = FormReader(request.form)
    changes = {"hardware": form.choice("hardware", ("rehearsal", "sound card"))}
    if changes["hardware"] == "sound card":
        host, _, name = request.form.get("card", "").partition("|")
        changes |= {"card_host": host[:120], "card_name": name[:120],
                    "card_input": form.whole("card_input", low=1, high=64)}
    try:
        return _changed(job_id, form, changes)
    except InvalidValue as error:
        return _show(job_id, status=422, faults={"hardware": f"{error.problem} {error.remedy}"})


@blueprint.post("/hardware/look")
def look_again(job_id: int) -> Response:
    """Audio devices that were plugged in since."""
    services().rigging.cards(again=True)
    return after_change("rig", job_id, _show)


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


@blueprint.post("/lines")
def run_lines(job_id: int) -> Response:
    """Check every line."""
    services().lines.run(job_id)
    return _after_lines(job_id)


@blueprint.post("/lines/<channel>")
def run_line(job_id: int, channel: str) -> Response:
    """Check one line."""
    services().lines.run(job_id, [channel])
    return _after_lines(job_id)


@blueprint.post("/lines/<channel>/heard/<heard>")
def answer_line(job_id: int, channel: str, heard: str) -> Response:
    """Which speaker sounded."""
    services().lines.answer(job_id, channel, heard=heard)
    return _after_lines(job_id)


@blueprint.post("/lines/<channel>/exchange/<other>")
def swap_lines(job_id: int, channel: str, other: str) -> Response:
    """Correct the wiring in the plan."""
    services().lines.swap(job_id, channel, other)
    return _after_lines(job_id)


def _after_lines(job_id: int) -> Response:
    if request.headers.get("HX-Request"):
        return _show_lines(job_id)
    return redirect(url_for("rig.page", job_id=job_id, sheet="lines"), 303)


@blueprint.post("/faults")
def add_fault(job_id: int) -> Response:
    """Switch a fault of the rehearsal rig on."""
    kind = request.form.get("kind", "")
    count = FAULTS.get(kind, ("", 0))[1]
    channels = tuple(request.form.get(name, "") for name in ("channel", "other")[:count])
    present = services().jobs.get(job_id).rig.faults
    try:
        services().rigging.set_faults(job_id, (*present, Fault(kind=kind, channels=channels)))
    except InvalidValue as error:
        return _show_faults(job_id, status=422, faults={"fault": f"{error.problem} {error.remedy}"})
    return after_change("rig", job_id, _show_faults)


@blueprint.post("/faults/<int:number>/off")
def drop_fault(job_id: int, number: int) -> Response:
    """Switch it off."""
    present = services().jobs.get(job_id).rig.faults
    services().rigging.set_faults(job_id, (f for k, f in enumerate(present) if k != number))
    return after_change("rig", job_id, _show_faults)


def _show_noise(job_id: int, **context: object) -> Response:
    return _show(job_id, sheet="noise", **context)


@blueprint.post("/noise")
def listen(job_id: int) -> Response:
    """Listen to the quiet room."""
    services().pressure.listen(job_id)
    return after_change("rig", job_id, _show_noise)


@blueprint.post("/calibrate/<int:level>")
def calibrate(job_id: int, level: int) -> Response:
    """Listen to a calibrator."""
    services().pressure.calibrate(job_id, float(level))
    return after_change("rig", job_id, _show_noise)


@blueprint.post("/reference")
def play_reference(job_id: int) -> Response:
    """Noise for a meter."""
    services().pressure.play_reference(job_id)
    return after_change("rig", job_id, _show_noise)


@blueprint.post("/reading")
def type_reading(job_id: int) -> Response:
    """What the meter read."""
    form = FormReader(request.form)
    reading = form.number("reading", low=40, high=120, unit="dB")
    try:
        form.done()
    except InvalidForm as error:
        return _show_noise(job_id, status=422, faults=error.faults, typed=request.form)
    services().pressure.type_reading(job_id, reading)
    return after_change("rig", job_id, _show_noise)


@blueprint.post("/pressure/forget")
def forget_pressure(job_id: int) -> Response:
    """Back to relative levels."""
    services().pressure.forget(job_id)
    return after_change("rig", job_id, _show_noise)
