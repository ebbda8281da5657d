"""Routes of single bands."""

from dataclasses import replace
from typing import Any

from flask import jsonify, make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.filters import BAND_KINDS, BandFilter
from dolce.errors import InvalidForm, InvalidValue, NotFound
from dolce.services.shape.scopes import SCOPES
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import after_change, services
from dolce.web.stops.shape.sheets import blueprint, edited, show, show_card
from dolce.web.stops.shape.views import ChannelView


def _typed(job_id: int, channel: str, band_id: int) -> BandFilter:
    """The band as the form has it; InvalidForm with one text for its row."""
    present = services().bands.band(job_id, channel, band_id)
    kept = present.filter
    form = FormReader(request.form, kept=kept)
    values: dict[str, Any] = {
        name: form.of(BandFilter, name)
        for name in (("gain_db",) if present.fixed else ("frequency_hz", "gain_db", "q"))
        if name in request.form
    }
    kind = next((kind for kind in BAND_KINDS if kind == request.form.get("kind", kept.kind)), None)
    if kind is None:
        form.faults["kind"] = "choose one of the list."
    try:
        form.done()
    except InvalidForm as error:
        field_names = {"frequency_hz": "Frequency", "gain_db": "Gain", "q": "Q", "kind": "Kind"}
        raise InvalidForm(
            {f"band-{band_id}": " ".join(f"{field_names[name]}: {text}" for name, text in error.faults.items())}
        ) from error
    band = replace(kept, kind=kind or kept.kind, **values)
    if present.fixed:
        return band
    # What was dragged, or moved by a key, lies between steps.
    return services().bands.snapped(job_id, band) if request.form.get("moved") else band


@blueprint.post("/bands/<channel>/<int:band_id>")
def edit_band(job_id: int, channel: str, band_id: int) -> Response:
    """Kind, frequency, gain, Q of one band."""
    try:
        band = _typed(job_id, channel, band_id)
    except NotFound as error:
        return show(job_id, status=409, notice=str(error))
    except InvalidForm as error:
        return show_card(job_id, channel, status=422, faults=error.faults)
    return edited(job_id, lambda: services().bands.edit(job_id, channel, band_id, band), channel=channel)


@blueprint.post("/bands/<channel>/<int:band_id>/preview")
def preview_band(job_id: int, channel: str, band_id: int) -> Response:
    """What the band would do while it is dragged: the plot and the figures; nothing is kept."""
    try:
        view = services().bands.preview(job_id, channel, band_id, _typed(job_id, channel, band_id))
    except (NotFound, InvalidForm, InvalidValue):
        return make_response("", 409)
    if view.shape is None:
        return make_response("", 409)
    shown = ChannelView.of(view, view.shape)
    return jsonify(plot=shown.plot, deviation=shown.deviation_words, headroom=shown.headroom_words)


@blueprint.post("/bands/<channel>/<int:band_id>/switch/<to>")
def switch_band(job_id: int, channel: str, band_id: int, to: str) -> Response:
    """Off, or on again."""
    return edited(job_id, lambda: services().bands.switch(job_id, channel, band_id, on=to == "on"), channel=channel)


@blueprint.post("/bands/<channel>/<int:band_id>/lock/<to>")
def lock_band(job_id: int, channel: str, band_id: int, to: str) -> Response:
    """Locked, so that it stays when filters are found again, or not."""
    return edited(
        job_id, lambda: services().bands.lock(job_id, channel, band_id, locked=to == "locked"), channel=channel
    )


@blueprint.post("/bands/<channel>/<int:band_id>/remove")
def remove_band(job_id: int, channel: str, band_id: int) -> Response:
    """Gone, until undo."""
    return edited(job_id, lambda: services().bands.remove(job_id, channel, band_id))


@blueprint.post("/bands/<channel>/add")
def add_band(job_id: int, channel: str) -> Response:
    """One more."""
    services().bands.add(job_id, channel)
    return after_change("shape", job_id, show)


@blueprint.post("/bands/<channel>/copy/<to>")
def copy_bands(job_id: int, channel: str, to: str) -> Response:
    """The same bands for the partner, or for the whole group."""
    form = FormReader({"to": to})
    scope = form.choice("to", SCOPES)
    form.done()
    return edited(job_id, lambda: services().bands.copy(job_id, channel, to=scope), channel=channel)


@blueprint.post("/hear/<channel>/<int:band_id>")
def hear_band(job_id: int, channel: str, band_id: int) -> Response:
    """Play noise in which one band goes in and out."""
    return edited(job_id, lambda: services().band_hearing.start(job_id, channel, band_id), channel=channel)


@blueprint.post("/hear/turn/<to>")
def turn_heard(job_id: int, to: str) -> str:
    """The band in, out, or in turn."""
    services().band_hearing.switch(job_id, band_in={"in": True, "out": False}.get(to))
    return _heard(job_id)


@blueprint.get("/hear")
def heard(job_id: int) -> str:
    """What is heard now; also says that somebody looks."""
    return _heard(job_id)


@blueprint.post("/hear/stop")
def stop_hearing(job_id: int) -> str:
    """Silence."""
    services().sound.stop()
    return _heard(job_id)


def _heard(job_id: int) -> str:
    return render_template("shape/_hearing.html", hearing=services().band_hearing.look(job_id), job_id=job_id)
