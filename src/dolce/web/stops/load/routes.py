"""Routes of the Load stop."""

from flask import Blueprint, Response, request

from dolce.core.job import SAMPLE_RATES_HZ
from dolce.services.load.misfit_words import first_words
from dolce.services.load.packing import LAYOUTS, ORDER_WORDS, SAMPLES, SIGN_WORDS, PackageWish
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import after_change, services, show_stop, stream

blueprint = Blueprint("load", __name__, url_prefix="/jobs/<int:job_id>/load", template_folder="templates")


def _show(job_id: int, **context: object) -> Response:
    view = services().loading.view(job_id, slot=request.values.get("slot", ""), content=request.values.get("look", ""))
    names = {name: key for key, name in view.contents.items()}
    offered = {slot: view.usual_content(view.job, slot, names) for slot in view.slots}
    loads = {one.output: one for one in view.loads}
    return show_stop("load", job_id, rates=SAMPLE_RATES_HZ, samples=SAMPLES, layouts=LAYOUTS, orders=ORDER_WORDS,
                     signs=SIGN_WORDS, view=view, offered=offered, loads=loads, first_words=first_words, **context)


@blueprint.get("")
def page(job_id: int) -> Response:
    """Outputs, presets and files."""
    return _show(job_id)


@blueprint.post("/presets/<slot>")
def load(job_id: int, slot: str) -> Response:
    """Write a preset, or some outputs of it."""
    some = request.form.getlist("output") if request.form.get("some") else None
    services().loading.load(job_id, slot, request.form.get("content", ""), outputs=some)
    return after_change("load", job_id, _show)


@blueprint.post("/presets/<slot>/back")
def put_back(job_id: int, slot: str) -> Response:
    """What it held before."""
    services().loading.put_back(job_id, slot)
    return after_change("load", job_id, _show)


@blueprint.post("/switch/<to>")
def switch(job_id: int, to: str) -> Response:
    """Play a preset, or bypass."""
    services().loading.switch(job_id, to)
    return after_change("load", job_id, _show)


@blueprint.get("/package.zip")
def package(job_id: int) -> Response:
    """Everything for another processor, as it is wished."""
    args = request.args
    rates = tuple(rate for rate in map(whole_of, args.getlist("rate")) if rate)
    wish = PackageWish(rates_hz=rates or SAMPLE_RATES_HZ, samples=args.get("samples", "float"),
                       layout=args.get("layout", "each"), order=args.get("order", "outputs"),
                       signs=args.get("signs", "subtracted"))
    parts, name = services().loading.package(job_id, wish)
    return stream(parts, name, "application/zip")
