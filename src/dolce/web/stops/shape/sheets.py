"""The sheets of the Shape stop: their names, and what each of them shows beside the plot."""

from collections.abc import Callable
from typing import Any

from flask import Blueprint, make_response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dolce.core.correction import METHODS, PHASES, SHAPES, VERDICTS
from dolce.core.filters import BAND_KINDS
from dolce.core.room import group_of, partner_of
from dolce.core.tuning import ChannelShape
from dolce.errors import NotFound, Outdated
from dolce.services.shape.region_evidence import region_evidence
from dolce.services.shape.shaping import ShapeView
from dolce.services.shape.targets import BASES
from dolce.web.shared.filter_plot import FiltersShown
from dolce.web.shared.form_faults import showing_faults
from dolce.web.shared.numbers import number_of, whole_of
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.shared.small_plots import small_shape
from dolce.web.stops.shape.views import ChannelView, correction_settings_of, evidence_lines

blueprint = Blueprint("shape", __name__, url_prefix="/jobs/<int:job_id>/shape", template_folder="templates")

SHEETS = {
    "filters": "Filters",
    "evidence": "Evidence",
    "switches": "Switches",
    "seat_weighting": "Seat weightings and versions",
    "headroom": "Headroom",
    "channels": "All channels",
}


def context_of(job_id: int, wanted: str, sheet: str = "") -> dict:
    """All that the stop shows: a channel in front, and one sheet under its plot."""
    view = services().shaping.view(job_id, wanted)
    sheet = sheet if sheet in SHEETS else "filters"
    channel = view.shape.channel if view.shape else ""
    base = {
        "view": view,
        "channel": channel,
        "faults": {},
        "typed": {},
        "shown": None,
        "sheet": sheet,
        "sheets": SHEETS,
        "methods": METHODS,
        "phases": PHASES,
        "kinds": BAND_KINDS,
        "verdicts": VERDICTS,
        "bases": BASES,
    }
    if view.shape is None:
        return base
    findings = services().reading.findings(job_id, view.round.id, channel) if sheet == "evidence" and view.round else ()
    return {
        **base,
        "shown": ChannelView.of(view, view.shape, findings),
        "filters": FiltersShown.of(
            view.filter_curves, channel, url=url_for("shape.filter_curves", job_id=job_id), under="shape-plot"
        ),
        "correction_settings": correction_settings_of(view.correction, channel),
        "group": group_of(channel),
        "partner": partner_of(channel),
        "kept_targets": services().targets.kept(),
        **_CONTEXTS[sheet](job_id, view, view.shape),
    }


def show(job_id: int, **context: Any) -> Response:
    """The stop, with the channel and the sheet that the request names: an edit stays where it was made."""
    wanted = (request.view_args or {}).get("channel") or request.values.get("channel", "")
    sheet = str(context.pop("sheet", "") or request.values.get("sheet", ""))
    return _whole_stop(job_id, **{**context_of(job_id, wanted, sheet), **context})


on_sheet = showing_faults(show)


def show_card(job_id: int, channel: str, *, status: int = 200, **context: Any) -> Response:
    """The channel's part alone for htmx; the page for all others, and where no take is left to shape on."""
    sheet = str(context.pop("sheet", "") or request.values.get("sheet", ""))
    if not request.headers.get("HX-Request"):
        return redirect(url_for("shape.page", job_id=job_id, channel=channel, sheet=sheet or None), 303)
    shown = {**context_of(job_id, channel, sheet), **context}
    if shown["shown"] is None:
        return _whole_stop(job_id, status=status, **shown)
    return make_response(render_template("shape/_channel.html", job=shown["view"].job, **shown), status)


def _whole_stop(job_id: int, **shown: Any) -> Response:
    """The stop in its own place, also where the form that asked for it replaces the channel's part alone."""
    response = show_stop("shape", job_id, **shown)
    response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#stop", "outerMorph"
    return response


def edited(job_id: int, edit: Callable[[], object], *, channel: str = "", sheet: str = "") -> Response:
    """Do an edit, then show the channel's part, or the whole; what another tab did meanwhile is shown and said."""
    try:
        edit()
    except (NotFound, Outdated) as error:
        return show(job_id, status=409, notice=str(error), sheet=sheet)
    if channel:
        return show_card(job_id, channel, sheet=sheet)
    return after_change("shape", job_id, lambda number: show(number, sheet=sheet))


def _filters(job_id: int, _view: ShapeView, _shape: ChannelShape) -> dict:
    return {"hearing": services().band_hearing.look(job_id)}


def _switches(job_id: int, _view: ShapeView, shape: ChannelShape) -> dict:
    return {
        "sw": services().switching.view(job_id, shape.channel, check_by=whole_of(request.values.get("check_by"))),
        "shapes": SHAPES,
    }


def _evidence(job_id: int, _view: ShapeView, shape: ChannelShape) -> dict:
    at = number_of(request.values.get("at", ""))
    if at is None:
        furthest = shape.plan.furthest
        at = furthest.size_hz if furthest is not None else None
    found = None if at is None else region_evidence(services().context, services().shaping, job_id, shape.channel, at)
    return {"evidence": found, "lines": evidence_lines(found) if found else ()}


def _seat_weightings(job_id: int, _view: ShapeView, _shape: ChannelShape) -> dict:
    return {"table": services().versions.table(job_id)}


def _headroom(job_id: int, shape_view: ShapeView, shape: ChannelShape) -> dict:
    view = services().loading.view(job_id, content="corrected")
    typed = shape_view.correction.maximum_levels_db.get(shape.channel, {})
    return {
        "loads": sorted(view.loads, key=lambda level: -level.tone_dbfs),
        "cut_db": view.cut_db,
        "seat_levels": view.seat_levels,
        "clean_typed": "\n".join(f"{at:g} {level:g}" for at, level in typed.items()),
    }


def _channels(job_id: int, _view: ShapeView, _shape: ChannelShape) -> dict:
    return {
        "smalls": [small_shape(shape) for shape in services().shaping.shapes(job_id).values()],
        "small_url": lambda name: url_for("shape.page", job_id=job_id, channel=name, sheet="channels"),
    }


_CONTEXTS: dict[str, Callable[[int, ShapeView, ChannelShape], dict]] = {
    "filters": _filters,
    "evidence": _evidence,
    "switches": _switches,
    "seat_weighting": _seat_weightings,
    "headroom": _headroom,
    "channels": _channels,
}
