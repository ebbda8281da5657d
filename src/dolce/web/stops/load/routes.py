"""Routes of the Load stop: presets and files."""

from typing import Any

from flask import request
from werkzeug.wrappers import Response

from dolce.core.job import SAMPLE_RATES_HZ
from dolce.services.load.packing import PackageOptions
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import services, stream
from dolce.web.stops.load import listen_routes
from dolce.web.stops.load.sheets import after, blueprint, show

__all__ = ["blueprint", "listen_routes"]


@blueprint.get("")
def page(job_id: int) -> Response:
    """One of the sheets."""
    return show(job_id)


@blueprint.post("/presets/<slot>")
def load(job_id: int, slot: str) -> Response:
    """Write a preset, or some outputs of it."""
    some = request.form.getlist("output") if request.form.get("some") else None
    services().loading.load(job_id, slot, request.form.get("content", ""), outputs=some)
    return after(job_id, "presets")


@blueprint.post("/presets/<slot>/back")
def put_back(job_id: int, slot: str) -> Response:
    """What it held before."""
    services().loading.put_back(job_id, slot)
    return after(job_id, "presets")


@blueprint.post("/switch/<to>")
def switch(job_id: int, to: str) -> Response:
    """Play a preset, or bypass."""
    services().loading.switch(job_id, to)
    return after(job_id, "presets")


@blueprint.get("/package.zip")
def package(job_id: int) -> Response:
    """Everything for another processor, as it is asked for."""
    args = request.args
    rates = tuple(rate for rate in map(whole_of, args.getlist("rate")) if rate)
    # The service refuses what is not offered.
    chosen: dict[str, Any] = {key: args[key] for key in ("samples", "layout", "order", "signs") if key in args}
    options = PackageOptions(rates_hz=rates or SAMPLE_RATES_HZ, device=whole_of(args.get("device")), **chosen)
    parts, name = services().loading.package(job_id, options)
    return stream(parts, name, "application/zip")
