"""Routes of the Shape stop: the page, what it stands on, the search, undo."""

from flask import make_response, render_template, request, url_for
from werkzeug.wrappers import Response

from dolce.errors import Conflict, InvalidValue
from dolce.web.shared.filter_plot import FiltersShown
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import after_change, download, services
from dolce.web.stops.shape import band_routes, monitor_routes, settings_routes, verdict_routes  # noqa: F401
from dolce.web.stops.shape.sheets import blueprint, edited, show


@blueprint.get("")
def page(job_id: int) -> Response:
    """Target, limits, plot, and a sheet."""
    return show(job_id)


@blueprint.post("/stand")
def stand(job_id: int) -> Response:
    """For whom the correction is, and which round it starts from."""
    view = services().shaping.view(job_id)
    seat_weighting = next((b for b in view.seat_weightings if b.name == request.form.get("seat_weighting")), None)
    chosen = whole_of(request.form.get("round"))
    if seat_weighting is not None and seat_weighting != view.correction.seat_weighting:
        services().shaping.set_seat_weighting(job_id, seat_weighting)
    if chosen is not None and (view.round is None or chosen != view.round.id):
        services().shaping.start_from(job_id, chosen)
    return after_change("shape", job_id, show)


@blueprint.post("/stand-on-present")
def stand_on_present(job_id: int) -> Response:
    """Let the bands stand on the alignment as it is now."""
    services().shaping.stand_on_present(job_id)
    return after_change("shape", job_id, show)


@blueprint.get("/search")
def search_progress(job_id: int) -> Response:
    """How far the search is; the whole stop once it is done."""
    search = services().finding.searches.of(job_id)
    if search is None or search.done:
        return show(job_id)
    response = make_response(
        render_template(
            "shape/_search.html",
            search=search,
            searching=True,
            job_id=job_id,
            channel=request.args.get("channel", ""),
            sheet=request.args.get("sheet", ""),
        )
    )
    response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#filter-search", "outerHTML"
    return response


@blueprint.post("/search/stop")
def stop_search(job_id: int) -> Response:
    """End the search; the filters stay as they were."""
    services().finding.searches.stop(job_id)
    return after_change("shape", job_id, show)


@blueprint.get("/filter-curves")
def filter_curves(job_id: int) -> str:
    """What the filters of a channel do by themselves."""
    view = services().shaping.view(job_id, request.args.get("channel", ""))
    channel = view.shape.channel if view.shape else ""
    filters = FiltersShown.of(
        view.filter_curves,
        channel,
        url=url_for("shape.filter_curves", job_id=job_id),
        under="shape-plot",
        kind=request.args.get("kind", ""),
    )
    return render_template("filter_curves.html", job=view.job, channel=channel, filters=filters) if filters else ""


@blueprint.get("/no-closer")
def no_closer(job_id: int) -> str:
    """Channels that the present filters leave no closer to their targets; for this stop and Align."""
    return render_template("shape/_no_closer.html", channels=services().shaping.no_closer(job_id))


@blueprint.get("/expected/<channel>")
def expected(job_id: int, channel: str) -> str:
    """What to expect at spots that were not measured."""
    return render_template("shape/_expected.html", expected=services().shaping.expected(job_id, channel))


@blueprint.get("/forecast/<channel>")
def forecast(job_id: int, channel: str) -> str:
    """What the present filters will do over time: decay that they lengthen, and what sounds before the arrival."""
    return render_template("shape/_forecast.html", forecast=services().decays.forecast(job_id, channel))


@blueprint.get("/target-moved/<channel>")
def target_moved(job_id: int, channel: str) -> str:
    """Whether the target of a channel still is that of its takes."""
    try:
        moved, why = services().targets.moved_on(job_id, channel), ""
    except (Conflict, InvalidValue) as error:
        moved, why = True, str(error)
    return render_template("shape/_target_moved.html", job_id=job_id, channel=channel, moved=moved, why=why)


@blueprint.post("/target-follow/<channel>")
def target_follow(job_id: int, channel: str) -> Response:
    """Let a target follow its takes of now."""
    return edited(job_id, lambda: services().targets.follow(job_id, channel))


@blueprint.get("/target/<channel>.csv")
def target_file(job_id: int, channel: str) -> Response:
    """A channel's target as text."""
    data, name = services().targets.file(job_id, channel)
    return download(data, name, "text/csv")


@blueprint.post("/undo")
def undo(job_id: int) -> Response:
    """One step back."""
    return edited(job_id, lambda: services().shaping.undo(job_id, seen=request.form.get("seen", "")))


@blueprint.post("/redo")
def redo(job_id: int) -> Response:
    """One step forward."""
    return edited(job_id, lambda: services().shaping.redo(job_id, seen=request.form.get("seen", "")))
