"""Routes of the processor: limits, what it holds, blank slate, mute, solo and dim."""

from dataclasses import asdict

from flask import Response, request

from dolce.core.processor import ProcessorLimits
from dolce.errors import InvalidForm, InvalidValue
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.rig.sheets import after, blueprint, show

_FIELDS = {"name": "name", "highest Q": "highest_q"}


def _limits(number: int | None) -> ProcessorLimits:
    """Limits as typed; InvalidForm with each fault."""
    kept = None if number is None else services().processor.limits(number)
    form = FormReader(request.form, kept=kept and {**asdict(kept), "most_delay_ms": 1000 * kept.most_delay_s})
    values = {
        "name": form.text("name")[:80], "bands": form.whole("bands", low=0, high=31),
        "lowest_gain_db": form.number("lowest_gain_db", low=-30, high=0, unit="dB"),
        "highest_gain_db": form.number("highest_gain_db", low=0, high=15, unit="dB"),
        "gain_step_db": form.number("gain_step_db", low=0.01, high=3, unit="dB"),
        "lowest_q": form.number("lowest_q", low=0.1, high=10), "highest_q": form.number("highest_q", low=0.2, high=50),
        "lowest_trim_db": form.number("lowest_trim_db", low=-40, high=0, unit="dB"),
        "highest_trim_db": form.number("highest_trim_db", low=0, high=12, unit="dB"),
        "trim_step_db": form.number("trim_step_db", low=0.01, high=3, unit="dB"),
        "most_delay_s": form.number("most_delay_ms", low=0, high=200, unit="ms") / 1000,
        "taps": form.whole("taps", low=0, high=200_000), "presets": form.whole("presets", low=1, high=20)}
    form.done()
    try:
        return ProcessorLimits(id=number, **values)
    except InvalidValue as error:
        form.blame(error, _FIELDS, "name")
        form.done()
        raise


@blueprint.post("/processors")
def add_limits(job_id: int) -> Response:
    """The limits of a device, kept by name and used here."""
    try:
        services().processor.add_limits(job_id, _limits(None))
    except InvalidForm as error:
        return show(job_id, "processor", status=422, faults=error.faults, typed=request.form)
    except InvalidValue as error:
        return show(job_id, "processor", status=422, faults={"name": f"{error.problem} {error.remedy}"},
                    typed=request.form)
    return after(job_id, "processor")


@blueprint.post("/processors/<int:number>")
def change_limits(job_id: int, number: int) -> Response:
    """Change them."""
    try:
        services().processor.change_limits(_limits(number))
    except InvalidForm as error:
        return show(job_id, "processor", status=422, faults=error.faults, typed=request.form)
    return after(job_id, "processor")


@blueprint.post("/processors/use")
def use_limits(job_id: int) -> Response:
    """Choose the device of this job."""
    form = FormReader(request.form)
    services().processor.use_limits(job_id, form.whole("processor", low=1, high=10**9) if form.text("processor")
                                    else None)
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


def _heard_otherwise(job_id: int) -> Response:
    services().live.refresh(job_id)
    return after(job_id, "processor")
