"""Routes of the Shape stop."""

from collections.abc import Callable
from dataclasses import asdict

from flask import Blueprint, Response, make_response, redirect, render_template, request, url_for

from dolce.core.checked import limited_fields
from dolce.core.correction import Limits, Target
from dolce.core.filters import PeakingFilter
from dolce.core.tuning import ANCHOR_RANGE_HZ, Correction
from dolce.errors import InvalidForm, InvalidValue, NotFound, Outdated
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.shape.views import ChannelView

blueprint = Blueprint("shape", __name__, url_prefix="/jobs/<int:job_id>/shape", template_folder="templates")

# Which field a fault of the core is about.
_FIELDS = {"bass lift": "bass_lift_db", "bass lift below": "bass_corner_hz", "tilt": "tilt_db_per_octave",
           "tilt from": "tilt_from_hz", "range from": "from_hz", "range to": "to_hz", "largest boost": "max_boost_db",
           "largest cut": "max_cut_db", "Q from": "min_q", "Q to": "max_q", "bands": "bands",
           "level from": "anchor_from_hz", "level to": "anchor_to_hz", "level": "anchor_level_db"}


def _context(job_id: int, wanted: str) -> dict:
    view = services().shaping.view(job_id)
    channel = wanted if wanted in view.channels else next(iter(view.channels), "")
    shown = None
    if channel:
        findings = services().reading.findings(job_id, view.round.id, channel) if view.round else ()
        shown = ChannelView.of(view, channel, findings)
    return {"view": view, "channel": channel, "faults": {}, "typed": {}, "shown": shown}


def _show(job_id: int, **context: object) -> Response:
    # The channel stands in the address of an edit, else in the query or the form: an edit stays on its channel.
    wanted = (request.view_args or {}).get("channel") or request.values.get("channel", "")
    return show_stop("shape", job_id, **{**_context(job_id, wanted), **context})


def _show_channel(job_id: int, channel: str, *, status: int = 200, **context: object) -> Response:
    """The channel's part alone for htmx, else the page."""
    if not request.headers.get("HX-Request"):
        return redirect(url_for("shape.page", job_id=job_id, channel=channel), 303)
    shown = {**_context(job_id, channel), **context}
    return make_response(render_template("shape/_channel.html", job=shown["view"].job, **shown), status)


@blueprint.get("")
def page(job_id: int) -> Response:
    """Target, limits, plot and bands."""
    return _show(job_id)


@blueprint.post("/aim")
def aim(job_id: int) -> Response:
    """Target, limits, link; then look for filters if asked."""
    kept = services().shaping.correction(job_id)
    form = FormReader(request.form, kept={
        **asdict(kept.target), **asdict(kept.limits), "anchor": kept.anchor, "anchor_level_db": kept.anchor_level_db,
        "anchor_from_hz": kept.anchor_band_hz[0], "anchor_to_hz": kept.anchor_band_hz[1]})

    try:
        target = {name: form.of(Target, name) for name in limited_fields(Target)}
        limits = {name: form.of(Limits, name) for name in limited_fields(Limits)}
        anchor = form.choice("anchor", ("band", "hand"))
        low, high = ANCHOR_RANGE_HZ
        band = (form.number("anchor_from_hz", low=low, high=high, unit="Hz"),
                form.number("anchor_to_hz", low=low, high=high, unit="Hz"))
        level = form.of(Correction, "anchor_level_db")
        form.done()
        try:
            shape = Correction(target=Target(**target), limits=Limits(**limits), anchor=anchor, anchor_band_hz=band,
                          anchor_level_db=level, linked=form.flag("linked"))
        except InvalidValue as error:
            form.blame(error, _FIELDS, "to_hz")
        form.done()
    except InvalidForm as error:
        return _show(job_id, status=422, faults=error.faults, typed=request.form)
    services().shaping.set_aim(job_id, target=shape.target, limits=shape.limits, anchor=shape.anchor,
                               anchor_band_hz=shape.anchor_band_hz, anchor_level_db=shape.anchor_level_db,
                               linked=shape.linked)
    return _edited(job_id, lambda: services().shaping.find(job_id) if request.form.get("find") else None)


@blueprint.post("/stand")
def stand(job_id: int) -> Response:
    """For whom the correction is, and which round it starts from."""
    view = services().shaping.view(job_id)
    blend = next((b for b in view.blends if b.name == request.form.get("blend")), None)
    chosen = whole_of(request.form.get("round"))
    if blend is not None and blend != view.correction.blend:
        services().shaping.set_blend(job_id, blend)
    if chosen is not None and (view.round is None or chosen != view.round.id):
        services().shaping.start_from(job_id, chosen)
    return after_change("shape", job_id, _show)


@blueprint.post("/stand-on-present")
def stand_on_present(job_id: int) -> Response:
    """Let the bands stand on the alignment as it is now."""
    services().shaping.stand_on_present(job_id)
    return after_change("shape", job_id, _show)


def _edited(job_id: int, edit: Callable[[], None], *, channel: str = "") -> Response:
    """Do an edit, then show the channel's part, or the whole; what another tab did meanwhile is shown and said."""
    try:
        edit()
    except (NotFound, Outdated) as error:
        return _show(job_id, status=409, notice=str(error))
    return _show_channel(job_id, channel) if channel else after_change("shape", job_id, _show)


@blueprint.post("/bands/<channel>/<int:band_id>")
def edit_band(job_id: int, channel: str, band_id: int) -> Response:
    """Frequency, gain, Q of one band."""
    try:
        form = FormReader(request.form, kept=services().shaping.band(job_id, channel, band_id).filter)
    except NotFound as error:
        return _show(job_id, status=409, notice=str(error))
    values = {"frequency_hz": form.of(PeakingFilter, "frequency_hz"),
              "gain_db": form.of(PeakingFilter, "gain_db"),
              "q": form.of(PeakingFilter, "q")}
    try:
        form.done()
    except InvalidForm as error:
        said = {"frequency_hz": "Frequency", "gain_db": "Gain", "q": "Q"}
        faults = {f"band-{band_id}": " ".join(f"{said[name]}: {text}" for name, text in error.faults.items())}
        return _show_channel(job_id, channel, status=422, faults=faults)
    return _edited(job_id, lambda: services().shaping.edit_band(job_id, channel, band_id, PeakingFilter(**values)),
                   channel=channel)


@blueprint.post("/bands/<channel>/<int:band_id>/switch/<to>")
def switch_band(job_id: int, channel: str, band_id: int, to: str) -> Response:
    """Off, or on again."""
    return _edited(job_id, lambda: services().shaping.switch_band(job_id, channel, band_id, on=to == "on"),
                   channel=channel)


@blueprint.post("/bands/<channel>/<int:band_id>/remove")
def remove_band(job_id: int, channel: str, band_id: int) -> Response:
    """Gone, until undo."""
    return _edited(job_id, lambda: services().shaping.remove_band(job_id, channel, band_id))


@blueprint.post("/bands/<channel>/add")
def add_band(job_id: int, channel: str) -> Response:
    """One more."""
    services().shaping.add_band(job_id, channel)
    return after_change("shape", job_id, _show)


@blueprint.post("/undo")
def undo(job_id: int) -> Response:
    """One step back."""
    return _edited(job_id, lambda: services().shaping.undo(job_id, seen=request.form.get("seen", "")))


@blueprint.post("/redo")
def redo(job_id: int) -> Response:
    """One step forward."""
    return _edited(job_id, lambda: services().shaping.redo(job_id, seen=request.form.get("seen", "")))
