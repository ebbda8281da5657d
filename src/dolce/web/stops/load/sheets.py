"""The sheets of the Load stop: presets and files, and listening."""

from collections.abc import Callable

from flask import Blueprint, request
from werkzeug.wrappers import Response

from dolce.core.job import SAMPLE_RATES_HZ
from dolce.core.listening import MATERIAL
from dolce.services.load.listening import TURNED
from dolce.services.load.packing import LAYOUTS, ORDER_WORDS, SAMPLES, SIGN_WORDS
from dolce.web.shared.form_faults import showing_faults
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.load.listen_views import pressure_plots
from dolce.words.rig import bass_words
from dolce.words.unsupported import first_words

blueprint = Blueprint("load", __name__, url_prefix="/jobs/<int:job_id>/load", template_folder="templates")

SHEETS = {"presets": "Presets and files", "listen": "Listen"}


def show(job_id: int, sheet: str | None = None, **context: object) -> Response:
    """A sheet: the one given, or the one that the request names."""
    wanted = sheet or request.values.get("sheet", "")
    sheet = wanted if wanted in SHEETS else "presets"
    return show_stop("load", job_id, sheet=sheet, sheets=SHEETS, **{**_CONTEXTS[sheet](job_id), **context})


on_sheet = showing_faults(show)


def after(job_id: int, sheet: str) -> Response:
    """After a change on a sheet: that sheet again."""
    return after_change("load", job_id, lambda number: show(number, sheet), sheet=sheet)


def _presets(job_id: int) -> dict:
    view = services().loading.view(job_id, slot=request.values.get("slot", ""), content=request.values.get("look", ""))
    names = view.tuned.contents_by_name
    return {
        "rates": SAMPLE_RATES_HZ,
        "samples": SAMPLES,
        "layouts": LAYOUTS,
        "orders": ORDER_WORDS,
        "signs": SIGN_WORDS,
        "view": view,
        "first_words": first_words,
        "bass_words": bass_words,
        "offered": {slot: view.usual_content(view.job, slot, names) for slot in view.slots},
        "loads": {load.output: load for load in view.loads},
    }


def _listen(job_id: int) -> dict:
    view = services().listening.view(job_id)
    return {
        "view": view,
        "material": MATERIAL,
        "orders": ORDER_WORDS,
        "turned_key": TURNED,
        "faults": {},
        "typed": {},
        "room": services().room_listening.look(job_id),
        "pressure": pressure_plots(view.audition) if view.audition else None,
    }


_CONTEXTS: dict[str, Callable[[int], dict]] = {"presets": _presets, "listen": _listen}
