"""Routes of what belongs to the monitors: switches at their backs, and how loud they play cleanly."""

from collections.abc import Callable

from flask import redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dolce.core.correction import SHAPES, MonitorSwitches
from dolce.errors import Conflict, FormatError, InvalidValue, NotFound
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import number_of, whole_of
from dolce.web.shared.page import services
from dolce.web.stops.shape.sheets import blueprint, edited, on_sheet, show

_FIELDS = {
    "name of the model": "model",
    "name of the switch": "switch",
    "name of the position": "position",
    "switch curve": "switch_points",
    "points": "switch_points",
    "rounds": "with_round",
    "switches": "model",
}


@blueprint.post("/switches/<channel>/model")
def use_model(job_id: int, channel: str) -> Response:
    """Which model a monitor is."""
    number = whole_of(request.form.get("model_id"))
    return edited(job_id, lambda: services().switching.use(job_id, channel, number), sheet="switches")


@blueprint.post("/switches/<channel>")
def set_switches(job_id: int, channel: str) -> Response:
    """How they stood, and how they shall stand."""
    measured, chosen = (
        {key.removeprefix(start): value for key, value in request.form.items() if key.startswith(start)}
        for start in ("measured:", "chosen:")
    )
    return edited(
        job_id,
        lambda: services().switching.set_positions(job_id, channel, measured=measured, chosen=chosen),
        sheet="switches",
    )


@blueprint.post("/switches/<channel>/best")
def best_switches(job_id: int, channel: str) -> Response:
    """Let them stand as was found best."""
    return edited(job_id, lambda: services().switching.choose_best(job_id, channel), sheet="switches")


@blueprint.post("/switches/start/<int:round_id>")
def start_from_turned(job_id: int, round_id: int) -> Response:
    """Start from a round that was taken with the switches as chosen."""
    return edited(job_id, lambda: services().switching.start_from_turned(job_id, round_id), sheet="switches")


@blueprint.post("/switches/<channel>/forget/<int:number>")
def forget_switch(job_id: int, channel: str, number: int) -> Response:
    """Take a switch from a model."""
    name = request.form.get("switch", "")
    return edited(job_id, lambda: services().switching.forget_switch(number, name), sheet="switches")


@blueprint.post("/switches/<channel>/steps")
def add_steps(job_id: int, channel: str) -> Response:
    """A switch as its data sheet has it."""
    form = FormReader(request.form)
    shape = form.choice("shape", tuple(SHAPES))
    frequency = form.number("switch_hz", low=10, high=20_000, unit="Hz")
    q = form.number("switch_q", low=0.2, high=5, default=0.7)
    steps = [number_of(cell) for cell in form.text("steps").replace(",", ".").split()]
    if not steps or any(step is None or abs(step) > 15 for step in steps):
        form.faults["steps"] = "Steps in dB are needed, parted by blanks, such as -2 -4 -6; up to 15 dB."
    return _added(
        job_id,
        channel,
        form,
        lambda model, switch: services().switching.add_steps(
            model, switch, shape=shape, frequency_hz=frequency, q=q, steps_db=[s for s in steps if s is not None]
        ),
    )


@blueprint.post("/switches/<channel>/points")
def add_points(job_id: int, channel: str) -> Response:
    """A position by typed points."""
    form = FormReader(request.form)
    return _added(
        job_id,
        channel,
        form,
        lambda model, switch: services().switching.add_points(
            model, switch, form.text("position"), form.text("switch_points")
        ),
    )


@blueprint.post("/switches/<channel>/takes")
def add_measured(job_id: int, channel: str) -> Response:
    """A position from takes without and with it."""
    form = FormReader(request.form)
    without, with_it = (whole_of(request.form.get(name)) or 0 for name in ("without_round", "with_round"))
    return _added(
        job_id,
        channel,
        form,
        lambda model, switch: services().switching.add_measured(
            job_id, model, switch, form.text("position"), channel=channel, without=without, with_it=with_it
        ),
    )


@on_sheet("switches")
def _added(job_id: int, channel: str, form: FormReader, add: Callable[[str, str], MonitorSwitches]) -> Response:
    """Add to a model and let the channel have it; faults stand at their fields."""
    switching = services().switching
    form.done()
    try:
        kept = add(form.text("model"), form.text("switch"))
    except (InvalidValue, FormatError, Conflict) as error:
        form.faults[_FIELDS.get(error.where, "switch_points" if error.where.startswith("points") else "switch")] = (
            f"{error.problem} {error.remedy}".strip()
        )
        form.done()
        raise
    return edited(job_id, lambda: switching.use(job_id, channel, kept.id), sheet="switches")


@blueprint.get("/clean/<channel>")
def maximum_levels(job_id: int, channel: str) -> str:
    """How loud a channel plays cleanly; read from its takes."""
    return render_template("shape/_clean.html", clean=services().maximum_levels.view(job_id, channel), job_id=job_id)


@blueprint.post("/clean/<channel>")
def type_maximum_levels(job_id: int, channel: str) -> Response:
    """Clean levels as a data sheet has them."""
    try:
        services().maximum_levels.type_levels(job_id, channel, request.form.get("clean", ""))
    except (InvalidValue, FormatError) as error:
        return show(
            job_id,
            status=422,
            faults={"clean": f"{error.problem} {error.remedy}".strip()},
            typed=request.form,
            sheet="headroom",
        )
    return edited(job_id, lambda: None, sheet="headroom")


@blueprint.post("/clean/<channel>/rising")
def take_rising(job_id: int, channel: str) -> Response:
    """Take a channel at rising level at the first spot of the main seat."""
    try:
        spot = services().jobs.get(job_id).main_spots[0].id
    except IndexError:
        raise NotFound("the main seat has no spot.", where="room", remedy="Place one in the Room stop.") from None
    services().taking.rising(job_id, channel, spot)
    return redirect(url_for("takes.page", job_id=job_id), 303)
