"""Routes of crossovers and routing."""

from flask import request
from werkzeug.wrappers import Response

from dolce.core.processor import Crossover, Effects
from dolce.core.processor.crossover import ORDERS
from dolce.core.subs import SubGroup
from dolce.errors import InvalidForm, InvalidValue
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.align.crossing_views import GROUP_NAMES, KINDS
from dolce.web.stops.align.sheets import after, blueprint, on_sheet, show


@blueprint.post("/crossovers")
@on_sheet("crossover")
def set_crossovers(job_id: int) -> Response:
    """Crossovers of all groups, and what the effects channel gets."""
    form = FormReader(request.form)
    crossovers = {}
    for group in GROUP_NAMES:
        if f"way-{group}" in request.form:
            crossed = form.choice(f"way-{group}", ("crossed", "whole")) == "crossed"
            crossovers[group] = _crossover(form, group) if crossed else None
    low_pass = _crossover(form, "lowpass") if form.filled("crossover-lowpass") else None
    effects_hz = form.number("effects_hz", low=40, high=250, unit="Hz", default=120.0)
    effects_db = form.of(Effects, "gain_db", typed="effects_db", default=10.0)
    wait_s = form.of(SubGroup, "most_wait_s", typed="wait_ms", per_unit=1000, unit="ms", default=10.0)
    form.done()
    services().crossing.set_crossovers(
        job_id,
        crossovers,
        low_pass=low_pass,
        most_wait_s=wait_s,
        effects=Effects(low_pass=Crossover(frequency_hz=effects_hz), gain_db=effects_db)
        if form.flag("effects")
        else None,
    )
    return after(job_id, "crossover")


@blueprint.post("/crossovers/proposed")
def use_proposed_crossovers(job_id: int) -> Response:
    """Crossovers of all groups as they are proposed."""
    services().crossing.use_proposed(job_id)
    return after(job_id, "crossover")


@blueprint.post("/crossovers/none")
def no_crossovers(job_id: int) -> Response:
    """Every channel plays its whole range itself."""
    services().crossing.without_crossovers(job_id)
    return after(job_id, "crossover")


@blueprint.post("/protect/<channel>")
def protect(job_id: int, channel: str) -> Response:
    """A high-pass below where a loudspeaker ends, set or taken off."""
    form = FormReader(request.form)
    at = None if request.form.get("off") else form.number("protect_hz", low=20, high=200, unit="Hz")
    try:
        form.done()
    except InvalidForm as error:
        return show(
            job_id,
            "crossover",
            status=422,
            faults={f"protect-{channel}": error.faults["protect_hz"]},
            typed=request.form,
        )
    services().crossing.protect(job_id, channel, at)
    return after(job_id, "crossover")


@blueprint.post("/crossovers/group")
@on_sheet("crossover")
def hold_group(job_id: int) -> Response:
    """Delay and polarity of all subs against the main channels by hand, or looked for again."""
    if request.form.get("find"):
        services().crossing.find_group(job_id)
        return after(job_id, "crossover")
    form = FormReader(request.form)
    delay_ms = form.number("group_ms", low=-100, high=100, unit="ms")
    polarity = form.choice("group_polarity", ("normal", "inverted"))
    form.done()
    services().crossing.hold_group(job_id, delay_s=delay_ms / 1000, polarity=-1 if polarity == "inverted" else 1)
    return after(job_id, "crossover")


@blueprint.post("/routing")
@on_sheet("routing")
def send(job_id: int) -> Response:
    """One channel on an output besides its own."""
    form = FormReader(request.form)
    gain = form.number("gain_db", low=-40, high=6, unit="dB", default=0.0)
    try:
        form.done()
        services().crossing.send(
            job_id,
            request.form.get("channel", ""),
            request.form.get("output", ""),
            None if request.form.get("off") else gain,
        )
    except InvalidValue as error:
        return show(
            job_id, "routing", status=422, faults={"gain_db": f"{error.problem} {error.remedy}"}, typed=request.form
        )
    return after(job_id, "routing")


def _crossover(form: FormReader, name: str) -> Crossover:
    crossover_hz = form.number(f"crossover-{name}", low=30, high=250, unit="Hz")
    order = form.whole_choice(f"slope-{name}", ORDERS)
    return Crossover(
        frequency_hz=crossover_hz, order=order, kind=form.choice(f"kind-{name}", tuple(k for k, _ in KINDS))
    )
