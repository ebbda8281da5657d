"""Routes of levels, arrivals and kept alignments."""

from collections.abc import Callable

from flask import redirect, request, url_for
from werkzeug.wrappers import Response

from dolce.core.alignment import LevelOptions
from dolce.core.tuning import ChannelAlignment
from dolce.errors import InvalidValue, Outdated
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import services
from dolce.web.shared.pressed_once import pressed_once
from dolce.web.stops.align import crossing_routes, sub_routes  # noqa: F401
from dolce.web.stops.align.sheets import after, blueprint, on_sheet, show
from dolce.web.stops.align.table_views import AlignmentTableView

__all__ = ["blueprint"]


@blueprint.get("")
def page(job_id: int) -> Response:
    """A sheet."""
    return show(job_id)


@blueprint.post("/start-from")
def start_from(job_id: int) -> Response:
    """Read from another round."""
    services().aligning.start_from(job_id, whole_of(request.form.get("round")) or 0)
    return after(job_id, "alignment_table")


@blueprint.post("/levels-over")
def levels_over(job_id: int) -> Response:
    """The seats that levels are matched over; an empty name for the main seat alone."""
    view, name = services().aligning.view(job_id), request.form.get("seat_weighting", "")
    seat_weighting = next((b for b in view.seat_weightings if b.name == name), None)
    if name and seat_weighting is None:
        raise InvalidValue(f"{name!r} is not a choice of seats.", where="levels over", remedy="Reload the page.")
    services().aligning.set_seat_weighting(job_id, seat_weighting)
    return after(job_id, "alignment_table")


@blueprint.post("/levels")
@on_sheet("alignment_table")
def levels(job_id: int) -> Response:
    """By which band, reference and offsets levels are matched."""
    view = services().aligning.view(job_id)
    form = FormReader(request.form)
    offsets = {
        name.removeprefix("offset-"): form.number(name, low=-20, high=20, unit="dB", default=0.0)
        for name in request.form
        if name.startswith("offset-")
    }
    reference = request.form.get("reference", "")
    try:
        low, high = (form.number(name, low=20, high=20_000, unit="Hz") for name in ("from_hz", "to_hz"))
        lip_sync_s = form.of(LevelOptions, "lip_sync_s", typed="lip_sync_ms", per_unit=1000, unit="ms", default=0.0)
        form.done()
        if reference and reference != "subs":
            view.job.speaker(reference)
        options = LevelOptions(
            band_hz=(low, high),
            reference=reference,
            lip_sync_s=lip_sync_s,
            offsets_db={name: offset for name, offset in offsets.items() if offset},
        )
    except InvalidValue as error:
        return show(
            job_id,
            "alignment_table",
            status=422,
            faults={"from_hz": f"{error.problem} {error.remedy}"},
            typed=request.form,
        )
    services().aligning.set_levels(job_id, options)
    return after(job_id, "alignment_table")


@blueprint.post("/undo")
def undo(job_id: int) -> Response:
    """One step back."""
    return _stepped(job_id, services().aligning.undo)


@blueprint.post("/redo")
def redo(job_id: int) -> Response:
    """One step forward."""
    return _stepped(job_id, services().aligning.redo)


def _stepped(job_id: int, step: Callable[..., None]) -> Response:
    """A step, or what another tab did meanwhile."""
    sheet = request.form.get("sheet", "alignment_table")
    try:
        step(job_id, seen=request.form.get("seen", ""))
    except Outdated as error:
        return show(job_id, sheet, status=409, notice=str(error))
    return after(job_id, sheet)


@blueprint.post("/use")
def use(job_id: int) -> Response:
    """Take over the proposal."""
    services().aligning.use_proposal(job_id)
    return after(job_id, "alignment_table")


@blueprint.post("/choose")
@on_sheet("alignment_table")
def choose(job_id: int) -> Response:
    """Take over what was typed."""
    alignment_table = AlignmentTableView.of(services().aligning.view(job_id))
    form = FormReader(
        request.form,
        kept={
            f"{name}-{row.channel}": value
            for row in (alignment_table.outputs if alignment_table else ())
            for name, value in (
                ("trim", round(row.trim_db, 1)),
                ("delay", round(row.delay_ms, 4)),
                ("polarity", row.chosen_polarity),
            )
        },
    )
    typed = {
        channel: (
            form.of(ChannelAlignment, "trim_db", typed=f"trim-{channel}"),
            1000 * form.of(ChannelAlignment, "delay_s", typed=f"delay-{channel}", per_unit=1000, unit="ms"),
            form.choice(f"polarity-{channel}", ("normal", "inverted")),
        )
        for channel in services().jobs.get(job_id).channels
    }
    form.done()
    services().aligning.choose(job_id, typed)
    return after(job_id, "alignment_table")


@blueprint.post("/try")
@pressed_once
def try_it(job_id: int) -> Response:
    """Load what is aligned into the last preset, play it, and begin a round of takes through it."""
    slot = services().jobs.get(job_id).slots[-1]
    services().loading.load(job_id, slot, "aligned")
    services().loading.switch(job_id, slot)
    services().rounds.new(job_id)
    return redirect(url_for("takes.page", job_id=job_id), 303)


@blueprint.post("/kept")
def keep(job_id: int) -> Response:
    """Keep the present alignment under a name."""
    try:
        services().aligning.keep_version(job_id, name=request.form.get("name", ""), note=request.form.get("note", ""))
    except InvalidValue as error:
        return show(job_id, "kept", status=422, faults={"name": f"{error.problem} {error.remedy}"}, typed=request.form)
    return after(job_id, "kept")


@blueprint.post("/kept/<int:number>/use")
def use_kept(job_id: int, number: int) -> Response:
    """Go back to a kept one."""
    services().aligning.use_version(job_id, number)
    return after(job_id, "kept")


@blueprint.post("/kept/<int:number>/forget")
def forget_kept(job_id: int, number: int) -> Response:
    """Forget it."""
    services().aligning.forget_version(job_id, number)
    return after(job_id, "kept")
