"""Routes of the Rig stop: hardware, levels, noise and pressure, faults; the other sheets have modules of their own."""

from typing import Any

from flask import request
from werkzeug.wrappers import Response

from dolce.core.checked import values_in
from dolce.core.job import SAMPLE_RATES_HZ, Interface, Levels, Rig
from dolce.core.rig import FAULTS, FULL_SCALE_DBU, Ceiling, Fault
from dolce.errors import InvalidForm, InvalidValue
from dolce.services.rig.sound_pressure import METER_READING_DB
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.rig import line_routes, live_routes, microphone_routes, processor_routes  # noqa: F401
from dolce.web.stops.rig.sheets import after, blueprint, on_sheet, show

__all__ = ["blueprint"]
_PACES = ("real time", "fast")
# Which field a fault of the core is about.
_FIELDS = {
    "loop output": "loop_output",
    "loop input": "loop_input",
    "device": "card",
    "ceiling": "ceiling_dbfs",
    "ceiling at the microphone": "ceiling_spl_db",
    "sweep level": "sweep_level_dbfs",
}


@blueprint.get("")
def page(job_id: int) -> Response:
    """One of the sheets."""
    return show(job_id)


@on_sheet()
def _changed(job_id: int, form: FormReader, changes: dict, *, sheet: str) -> Response:
    """Keep what was typed, or show each fault beside its field."""
    form.done()
    with form.blaming(_FIELDS, "hardware"):
        services().rigging.set_rig(job_id, **changes)
    return after(job_id, sheet)


_PLACED = {True: "by hand", False: "exactly"}


@blueprint.post("/settings")
def settings(job_id: int) -> Response:
    """Rate, pace, and how the rehearsal places its microphones."""
    kept = services().jobs.get(job_id).rig
    form = FormReader(
        request.form,
        kept={
            "sample_rate_hz": str(kept.sample_rate_hz),
            "pace": kept.rehearsal.pace,
            "placed": _PLACED[kept.rehearsal.placed_by_hand],
        },
    )
    return _changed(
        job_id,
        form,
        {
            "sample_rate_hz": int(form.choice("sample_rate_hz", tuple(map(str, SAMPLE_RATES_HZ)))),
            "pace": form.choice("pace", _PACES),
            "placed_by_hand": form.choice("placed", tuple(_PLACED.values())) == _PLACED[True],
        },
        sheet="setup",
    )


@blueprint.post("/level")
def level(job_id: int) -> Response:
    """Sweep, gain and ceiling."""
    rig = services().jobs.get(job_id).rig
    form = FormReader(request.form, kept={**values_in(rig.levels), "sweep_seconds": rig.sweep_seconds})
    return _changed(
        job_id,
        form,
        {
            "sweep_level_dbfs": form.of(Levels, "sweep_level_dbfs"),
            "sweep_seconds": form.of(Rig, "sweep_seconds"),
            "microphone_gain_db": form.of(Levels, "microphone_gain_db"),
            "ceiling_dbfs": form.of(Ceiling, "peak_dbfs", typed="ceiling_dbfs"),
            "ceiling_spl_db": form.of(Ceiling, "spl_db", typed="ceiling_spl_db")
            if form.filled("ceiling_spl_db")
            else None,
        },
        sheet="level",
    )


@blueprint.post("/hardware")
def hardware(job_id: int) -> Response:
    """The rehearsal rig, or an audio device of this computer."""
    form = FormReader(request.form)
    changes: dict[str, Any] = {"hardware": form.choice("hardware", ("rehearsal", "sound card"))}
    if changes["hardware"] == "sound card":
        host, _, name = request.form.get("card", "").partition("|")
        changes |= {"card_host": host[:120], "card_name": name[:120]}
    host, _, name = request.form.get("recorder", "").partition("|")
    if changes["hardware"] == "rehearsal" or request.form.get("recorder") == request.form.get("card"):
        host = name = ""
    changes |= {
        "recorder_host": host[:120],
        "recorder_name": name[:120],
        "own_clock": form.flag("own_clock") or bool(name),
    }
    if form.filled("sync_channel"):
        changes["sync_channel"] = services().jobs.get(job_id).speaker(form.text("sync_channel")).channel
    return _changed(job_id, form, changes, sheet="setup")


@blueprint.post("/hardware/look")
def look_again(job_id: int) -> Response:
    """Audio devices that were plugged in since."""
    services().rigging.cards(again=True)
    return after(job_id, "setup")


@blueprint.post("/loop")
def join_loop(job_id: int) -> Response:
    """Which output and input a cable joins; both empty for none."""
    form = FormReader(request.form)
    return _changed(
        job_id,
        form,
        {name: form.of(Interface, name) if form.text(name) else None for name in ("loop_output", "loop_input")},
        sheet="setup",
    )


@blueprint.post("/loop/measure")
def measure_loop(job_id: int) -> Response:
    """Play a sweep through the cable."""
    services().loop.measure(job_id)
    return after(job_id, "setup")


@blueprint.post("/loop/forget")
def forget_loop(job_id: int) -> Response:
    """No longer take it out."""
    services().loop.forget(job_id)
    return after(job_id, "setup")


@blueprint.post("/check")
def check(job_id: int) -> Response:
    """Start the level check."""
    services().rigging.check_level(job_id)
    return after(job_id, "level")


@blueprint.post("/turn-down")
def turn_down(job_id: int) -> Response:
    """Turn the sweep down where a channel clips, and check again."""
    services().rigging.turn_down_and_check(job_id)
    return after(job_id, "level")


@blueprint.post("/faults")
def add_fault(job_id: int) -> Response:
    """Switch a fault of the rehearsal rig on."""
    kind = request.form.get("kind", "")
    count = FAULTS.get(kind, ("", 0))[1]
    channels = tuple(request.form.get(name, "") for name in ("channel", "other")[:count])
    try:
        services().rigging.add_fault(job_id, Fault(kind=kind, channels=channels))
    except InvalidValue as error:
        return show(job_id, "faults", status=422, faults={"fault": f"{error.problem} {error.remedy}"})
    return after(job_id, "faults")


@blueprint.post("/faults/<kind>/off")
def drop_fault(job_id: int, kind: str) -> Response:
    """Switch it off."""
    services().rigging.drop_fault(job_id, Fault(kind=kind, channels=tuple(request.form.getlist("of"))))
    return after(job_id, "faults")


@blueprint.post("/leave-something")
def leave_something(job_id: int) -> Response:
    """Let the simulated processor hold what somebody left in it."""
    services().processor.leave_something(job_id)
    return after(job_id, "faults")


@blueprint.post("/noise")
def listen(job_id: int) -> Response:
    """Listen to the quiet room."""
    services().pressure.listen(job_id)
    return after(job_id, "noise")


@blueprint.post("/calibrate/<int:level_db>")
def calibrate(job_id: int, level_db: int) -> Response:
    """Listen to a calibrator."""
    services().pressure.calibrate(job_id, float(level_db))
    return after(job_id, "noise")


@blueprint.post("/reference")
def play_reference(job_id: int) -> Response:
    """Noise for a meter."""
    services().pressure.play_reference(job_id)
    return after(job_id, "noise")


@blueprint.post("/reading")
@on_sheet("noise")
def type_reading(job_id: int) -> Response:
    """What the meter read."""
    form = FormReader(request.form)
    reading = form.inside(METER_READING_DB, "reading")
    form.done()
    services().pressure.type_reading(job_id, reading)
    return after(job_id, "noise")


@blueprint.post("/sensitivity")
def use_sensitivity(job_id: int) -> Response:
    """From the microphone's sensitivity and the input's full scale."""
    form = FormReader(request.form)
    level = form.inside(FULL_SCALE_DBU, "full_scale_dbu")
    try:
        form.done()
        services().pressure.use_sensitivity(job_id, level)
    except (InvalidForm, InvalidValue) as error:
        faults = (
            error.faults if isinstance(error, InvalidForm) else {"full_scale_dbu": f"{error.problem} {error.remedy}"}
        )
        return show(job_id, "noise", status=422, faults=faults, typed=request.form)
    return after(job_id, "noise")


@blueprint.post("/pressure/forget")
def forget_pressure(job_id: int) -> Response:
    """Back to relative levels."""
    services().pressure.forget(job_id)
    return after(job_id, "noise")
