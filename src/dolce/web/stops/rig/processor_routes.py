"""Routes of the processor: limits, what it holds, neutral processor, mute, solo and dim."""

from dataclasses import asdict
from typing import Any

from flask import request
from werkzeug.wrappers import Response

from dolce.core.processor import Crossover, ProcessorInUse, ProcessorLimits
from dolce.core.processor.crossover import ORDERS
from dolce.errors import InvalidValue
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.rig.sheets import after, blueprint, on_sheet, show

_NUMBERS = (
    "bands",
    "lowest_gain_db",
    "highest_gain_db",
    "gain_step_db",
    "lowest_q",
    "highest_q",
    "lowest_trim_db",
    "highest_trim_db",
    "trim_step_db",
    "fixed_bands",
    "all_passes",
    "taps",
    "bass_taps",
    "presets",
)
_FIELDS = {"name": "name", "highest Q": "highest_q"}


def _limits(number: int | None) -> ProcessorLimits:
    """Limits as typed; InvalidForm with each fault."""
    kept = None if number is None else services().processor.limits(number)
    form = FormReader(
        request.form,
        kept=kept
        and {**asdict(kept), "most_delay_ms": 1000 * kept.most_delay_s, "delay_step_ms": 1000 * kept.delay_step_s},
    )
    values: dict[str, Any] = {
        "name": form.text("name")[:80],
        "crossovers": form.flag("crossovers"),
        "shelves": form.flag("shelves"),
        "most_delay_s": form.of(ProcessorLimits, "most_delay_s", typed="most_delay_ms", per_unit=1000, unit="ms"),
        "delay_step_s": form.of(ProcessorLimits, "delay_step_s", typed="delay_step_ms", per_unit=1000, unit="ms"),
        **{name: form.of(ProcessorLimits, name) for name in _NUMBERS},
    }
    form.done()
    with form.blaming(_FIELDS, "name"):
        return ProcessorLimits(id=number, **values)


@blueprint.post("/processors")
@on_sheet("processor")
def add_limits(job_id: int) -> Response:
    """The limits of a device, kept by name and used here."""
    try:
        services().processor.add_limits(job_id, _limits(None))
    except InvalidValue as error:
        return show(
            job_id, "processor", status=422, faults={"name": f"{error.problem} {error.remedy}"}, typed=request.form
        )
    return after(job_id, "processor")


@blueprint.post("/processors/<int:number>")
@on_sheet("processor")
def change_limits(job_id: int, number: int) -> Response:
    """Change them."""
    services().processor.change_limits(_limits(number))
    return after(job_id, "processor")


@blueprint.post("/processor/bass")
@on_sheet("processor")
def type_bass(job_id: int) -> Response:
    """The bass management of a processor that can't be read; an empty frequency for none."""
    form, crossover = FormReader(request.form), None
    if form.filled("bass_hz"):
        frequency_hz = form.number("bass_hz", low=30, high=250, unit="Hz")
        order = form.whole_choice("bass_slope", ORDERS)
        form.done()
        crossover = Crossover(frequency_hz=frequency_hz, order=order)
    services().processor.type_bass(job_id, crossover)
    return after(job_id, "processor")


@blueprint.post("/processors/use")
def use_limits(job_id: int) -> Response:
    """Choose the device of this job."""
    form = FormReader(request.form)
    services().processor.use_limits(
        job_id, form.whole("processor", low=1, high=10**9) if form.text("processor") else None
    )
    return after(job_id, "processor")


@blueprint.post("/processors/<int:number>/delete")
def delete_limits(job_id: int, number: int) -> Response:
    """Off the shelf."""
    services().processor.delete_limits(number)
    return after(job_id, "processor")


@blueprint.post("/processors/<int:number>/restore")
def restore_limits(job_id: int, number: int) -> Response:
    """Back onto the shelf."""
    services().processor.restore_limits(number)
    return after(job_id, "processor")


@blueprint.post("/processor/keep")
def keep_processor(job_id: int) -> Response:
    """Read what it holds and keep it."""
    services().processor.keep(job_id)
    return after(job_id, "processor")


@blueprint.post("/processor/neutral")
def neutral_processor(job_id: int) -> Response:
    """Keep what it holds, then make it neutral."""
    services().processor.make_neutral(job_id)
    return _heard_otherwise(job_id)


@blueprint.post("/processor/put-back/<int:number>")
def put_back_processor(job_id: int, number: int) -> Response:
    """Put back what was kept."""
    services().processor.put_back(job_id, number)
    return _heard_otherwise(job_id)


@blueprint.post("/processor/slate")
def tick_all(job_id: int) -> Response:
    """Tick every point of the list."""
    services().processor.tick_all(job_id)
    return after(job_id, "processor")


@blueprint.post("/processor/slate/<item>/<state>")
def tick(job_id: int, item: str, state: str) -> Response:
    """Tick a point of the list, or take the tick away."""
    services().processor.tick(job_id, item, on=state == "on")
    return after(job_id, "processor")


@blueprint.post("/processor/mute/<channel>")
def mute(job_id: int, channel: str) -> Response:
    """Shut a channel, or open it."""
    services().processor.mute(job_id, channel)
    return _heard_otherwise(job_id)


@blueprint.post("/processor/solo/<channel>")
def solo(job_id: int, channel: str) -> Response:
    """Only this channel, or all again."""
    services().processor.solo(job_id, channel)
    return _heard_otherwise(job_id)


@blueprint.post("/processor/dim")
def dim(job_id: int) -> Response:
    """20 dB down, or back."""
    services().processor.dim(job_id)
    return _heard_otherwise(job_id)


@blueprint.post("/chain")
@on_sheet("processor")
def add_other(job_id: int) -> Response:
    """One more in the chain, that corrects by itself."""
    form = FormReader(request.form)
    latency_s = form.of(ProcessorInUse, "latency_s", typed="other_latency_ms", per_unit=1000, unit="ms", default=0.0)
    known = {channel.lower(): channel for channel in services().jobs.get(job_id).channels}
    typed = form.text("other_channels").replace(",", " ").split()
    unknown = [code for code in typed if code.lower() not in known]
    if unknown:
        form.faults["other_channels"] = f"There is no channel {unknown[0]}. There are {', '.join(known.values())}."
    form.done()
    with form.blaming({}, "other_name"):
        services().processor.add_other(
            job_id,
            ProcessorInUse(
                name=form.text("other_name"),
                latency_s=latency_s,
                by_itself=True,
                channels=tuple(known[code.lower()] for code in typed),
            ),
        )
    return after(job_id, "processor")


@blueprint.post("/chain/<name>/switch")
def switch_other(job_id: int, name: str) -> Response:
    """Say that it is on, or off."""
    services().processor.switch_other(job_id, name)
    return _heard_otherwise(job_id)


@blueprint.post("/chain/<name>/settings")
def say_settings(job_id: int, name: str) -> Response:
    """What it is set to, as it was read there."""
    try:
        services().processor.say_settings(job_id, name, request.form.get("settings", ""))
    except InvalidValue as error:
        return show(job_id, "processor", status=422, faults={f"settings-{name}": f"{error.problem} {error.remedy}"})
    return after(job_id, "processor")


@blueprint.post("/chain/<name>/drop")
def drop_other(job_id: int, name: str) -> Response:
    """Out of the chain."""
    services().processor.drop_other(job_id, name)
    return _heard_otherwise(job_id)


def _heard_otherwise(job_id: int) -> Response:
    services().live.refresh(job_id)
    return after(job_id, "processor")


@blueprint.post("/network/look")
def look_around(job_id: int) -> Response:
    """Ask who answers on the network of this machine."""
    services().network.look_around()
    return after(job_id, "processor")


@blueprint.post("/network/join/<address>")
def join_network(job_id: int, address: str) -> Response:
    """Load the processor at an address from now on."""
    services().network.join(job_id, address)
    return _heard_otherwise(job_id)


@blueprint.post("/network/leave")
def leave_network(job_id: int) -> Response:
    """Go back to the usual processor."""
    services().network.leave(job_id)
    return _heard_otherwise(job_id)


@blueprint.post("/network/stand-in/start")
def start_stand_in(job_id: int) -> Response:
    """Start a stand-in as a process of its own."""
    services().network.start_stand_in()
    return after(job_id, "processor")


@blueprint.post("/network/stand-in/stop")
def stop_stand_in(job_id: int) -> Response:
    """End it."""
    services().network.stop_stand_in()
    return after(job_id, "processor")
