"""Routes of the Prove stop."""

from typing import Any

from flask import Blueprint, make_response, render_template, request, url_for
from werkzeug.wrappers import Response

from dolce.core.alignment import PAIR_DB
from dolce.core.tolerance import ToleranceSet
from dolce.errors import FormatError, InvalidForm, InvalidValue
from dolce.services.prove.proving import LOGBOOK_PAGE
from dolce.web.shared.filter_plot import FiltersShown
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import number_of, whole_of
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.shared.small_plots import small_proof
from dolce.web.stops.prove.history_plots import HEIGHT, WIDTH, history_lines
from dolce.web.stops.prove.twin_plots import TWIN_MS, outside, twin_plots
from dolce.web.stops.prove.views import LINES, bass_at_seats_plot, budget_rows, latest_first, proof_plot, tolerance_rows
from dolce.words.verdicts import heading, objection_words, remedies_of, sentences

blueprint = Blueprint("prove", __name__, url_prefix="/jobs/<int:job_id>/prove", template_folder="templates")


@blueprint.get("/logbook/<int:before>")
def logbook(job_id: int, before: int) -> Response:
    """Earlier entries of the logbook."""
    entries = services().proving.logbook(job_id, before=before)
    return make_response(
        render_template(
            "prove/_logbook.html",
            job=services().jobs.get(job_id),
            entries=entries,
            groups=latest_first(entries),
            logbook_page=LOGBOOK_PAGE,
        )
    )


@blueprint.get("")
def page(job_id: int) -> Response:
    """Before, predicted and after, figures and the logbook."""
    return _show(job_id)


def _show(job_id: int) -> Response:
    view = services().proving.view(job_id, seat_id=whole_of(request.args.get("seat")))
    spots = bool(request.args.get("spots"))
    wanted = request.args.get("channel", "")
    channel = wanted if wanted in view.channels else next(iter(view.channels), "")
    also = {number for text in request.args.getlist("also") if (number := whole_of(text)) is not None}
    beside = services().proving.beside(view, channel, also) if channel and also else []
    verdict = services().verdicts.of(job_id)
    curves = {name: view.filter_curves(name) for name in view.channels}
    asked: dict[str, Any] = {"seat": view.seat_id, "spots": 1 if spots else None, "also": sorted(also)}
    return show_stop(
        "prove",
        job_id,
        view=view,
        channel=channel,
        verdict=verdict,
        verdict_heading=heading,
        verdict_sentences=sentences,
        objection_words=objection_words,
        remedies=remedies_of(verdict),
        latest_first=latest_first,
        logbook_page=LOGBOOK_PAGE,
        spots=spots,
        also=also,
        beside=beside,
        plot=proof_plot(view.channels[channel], spots=spots, beside=beside) if channel else None,
        filters=FiltersShown.of(
            curves.get(channel), channel, url=url_for("prove.filter_curves", job_id=job_id), under="prove-plot"
        ),
        smalls=[
            small_proof(name, proof, found.together.level_db if (found := curves[name]) else None)
            for name, proof in view.channels.items()
        ],
        small_url=lambda name: url_for("prove.page", job_id=job_id, channel=name, **asked),
        seats_plot=bass_at_seats_plot(view.channels[channel]) if channel else None,
    )


@blueprint.get("/filter-curves")
def filter_curves(job_id: int) -> str:
    """What the filters of a channel did by themselves in the round that proves."""
    view, channel = services().proving.view(job_id), request.args.get("channel", "")
    filters = FiltersShown.of(
        view.filter_curves(channel),
        channel,
        url=url_for("prove.filter_curves", job_id=job_id),
        under="prove-plot",
        kind=request.args.get("kind", ""),
    )
    return render_template("filter_curves.html", job=view.job, channel=channel, filters=filters) if filters else ""


@blueprint.get("/rounds")
def rounds(job_id: int) -> str:
    """Every round beside the others."""
    return render_template(
        "prove/_rounds.html", job=services().jobs.get(job_id), table=services().proving.rounds(job_id)
    )


@blueprint.get("/history/<channel>")
def history(job_id: int, channel: str) -> str:
    """A channel from round to round."""
    points = services().histories.of(job_id, channel)
    return render_template(
        "prove/_history.html",
        job=services().jobs.get(job_id),
        channel=channel,
        points=points,
        lines=history_lines(points),
        width=WIDTH,
        height=HEIGHT,
        together=[f"round-{point.round.id}" for point in points[:-1]],
    )


@blueprint.get("/decay/<channel>")
def decay(job_id: int, channel: str) -> str:
    """How long the bass of a channel rings at every seat: before, predicted and after."""
    view, seats = services().decays.at_seats(job_id, channel)
    return render_template("prove/_decay.html", job=view.job, channel=channel, seats=seats)


@blueprint.get("/twins/<channel>")
def twins(job_id: int, channel: str) -> str:
    """A channel against its partner, or the centre against the phantom centre."""
    view = services().twins.of(job_id, channel)
    if view is None or (view.before is None and view.after is None):
        return ""
    level, arrival = twin_plots(view)
    return render_template(
        "prove/_twins.html",
        job=services().jobs.get(job_id),
        view=view,
        level=level,
        arrival=arrival,
        outside=outside(view.after),
        within_db=PAIR_DB,
        within_ms=TWIN_MS,
    )


@blueprint.get("/budgets")
def budgets(job_id: int) -> str:
    """How far the headlines may be off, source by source."""
    taken_in, headlines = services().budgets.of(job_id)
    return render_template("prove/_budgets.html", taken_in=taken_in, rows=budget_rows(headlines)) if headlines else ""


@blueprint.get("/drift")
def drift(job_id: int) -> str:
    """A round now against one of then."""
    view = services().proving.drift(
        job_id, now=whole_of(request.args.get("now")), then=whole_of(request.args.get("then"))
    )
    return render_template("prove/_drift.html", job=view.job, view=view)


@blueprint.get("/tolerances")
def tolerances(job_id: int) -> str:
    """Every figure against a set of tolerances."""
    return _tolerances(job_id, request.args.get("set", ""))


@blueprint.post("/tolerances/keep")
def keep_tolerances(job_id: int) -> Response:
    """Keep a set of one's own."""
    form = FormReader(request.form)
    try:
        wanted = _typed_set(form)
        services().tolerating.keep(wanted)
    except InvalidForm as error:
        return make_response(_tolerances(job_id, "", faults=error.faults, typed=request.form), 422)
    except (InvalidValue, FormatError) as error:
        place = "lines" if error.where.startswith("response") or error.where.startswith("lines") else "set_name"
        faults = {place: f"{error.problem} {error.remedy}"}
        return make_response(_tolerances(job_id, "", faults=faults, typed=request.form), 422)
    services().tolerating.choose(job_id, wanted.name)
    return make_response(_tolerances(job_id, wanted.name))


@blueprint.post("/tolerances/choose")
def choose_tolerances(job_id: int) -> Response:
    """The set that the verdict stands on."""
    services().tolerating.choose(job_id, request.args.get("set", ""))
    return after_change("prove", job_id, _show)


@blueprint.post("/tolerances/<int:number>/forget")
def forget_tolerances(job_id: int, number: int) -> str:
    """Forget a set of one's own."""
    services().tolerating.forget(number)
    return _tolerances(job_id, "")


def _tolerances(job_id: int, name: str, **context: object) -> str:
    return render_template(
        "prove/_tolerances.html",
        job_id=job_id,
        t=services().tolerating.view(job_id, name),
        rows=tolerance_rows,
        lines=LINES,
        **{"faults": {}, "typed": {}, **context},
    )


def _typed_set(form: FormReader) -> ToleranceSet:
    """Lines of frequency, lower and upper bound; single bounds, empty for none."""
    points: list[list[float]] = []
    for line in filter(str.strip, form.text("lines").splitlines()):
        row = [number for cell in line.replace(";", " ").split() if (number := number_of(cell)) is not None]
        points.append(row if len(row) == len(line.replace(";", " ").split()) else [])
    if any(len(row) != 3 for row in points):
        form.faults["lines"] = "Write frequency, lower and upper bound, a line each, such as 50 -3 3."
        points = []

    def bound(name: str, typed: str, per_unit: float = 1.0, unit: str = "") -> float | None:
        return form.of(ToleranceSet, name, typed=typed, per_unit=per_unit, unit=unit) if form.filled(typed) else None

    values: dict[str, Any] = {
        "level_db": bound("level_db", "tol_level"),
        "arrival_s": bound("arrival_s", "tol_arrival", 1000, "ms"),
        "reverberation_s": bound("reverberation_s", "tol_decay"),
        "noise_nr": bound("noise_nr", "tol_noise"),
        "seats_db": bound("seats_db", "tol_seats"),
    }
    form.done()
    return ToleranceSet(
        name=form.text("set_name"),
        response_hz=tuple(row[0] for row in points),
        lower_db=tuple(row[1] for row in points),
        upper_db=tuple(row[2] for row in points),
        about="target" if form.text("about") == "target" else "mean",
        angles=form.flag("tol_angles"),
        sources={},
        **values,
    )
