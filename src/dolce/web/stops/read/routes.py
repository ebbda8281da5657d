"""Routes of the Read stop."""

from urllib.parse import parse_qsl, urlencode

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.datastructures import MultiDict
from werkzeug.wrappers import Response

from dolce.core.reading import TOLD_HZ
from dolce.errors import InvalidValue
from dolce.services.read.curve_export import curves_csv
from dolce.web.shared.page import download, services, show_stop
from dolce.web.stops.read.asked import added_of, address_of, options_of, scale_of
from dolce.web.stops.read.drawn_csv import drawn_csv
from dolce.web.stops.read.moving import move_of, moving_plot
from dolce.web.stops.read.result_sheet import result_rows
from dolce.web.stops.read.views import QUESTIONS, SMOOTHING_WORDS, ReadPage, front_row, together

blueprint = Blueprint("read", __name__, url_prefix="/jobs/<int:job_id>/read", template_folder="templates")


@blueprint.get("")
def page(job_id: int) -> Response:
    """What was chosen; with "add", one curve more in the picture, at an address that says so."""
    options, adding = options_of(request.args), added_of(request.args)
    if request.args.get("add"):
        return redirect(f"{url_for('read.page', job_id=job_id)}?{address_of(options.beside(adding))}", 303)
    view = services().reading.view(job_id, options)
    return show_stop(
        "read",
        job_id,
        kept=services().reading.selections(job_id),
        view=view,
        options=view.options,
        read=ReadPage.of(view, scale_of(request.args)),
        questions=QUESTIONS,
        smoothings=SMOOTHING_WORDS,
        adding=adding,
        adding_rounds=view.rounds if adding.job_id is None else services().reading.rounds_of(adding.job_id),
        front_row=front_row,
        together=together,
    )


@blueprint.get("/sheet")
def sheet(job_id: int) -> str:
    """What is shown, with its figures, as one sheet of paper."""
    view = services().reading.view(job_id, options_of(request.args))
    read = ReadPage.of(view, scale_of(request.args))
    return render_template(
        "read/result_sheet.html",
        job=view.job,
        view=view,
        options=view.options,
        read=read,
        place=dict(read.places).get(str(view.options.place), "all seats"),
        rows=result_rows(view),
        front_row=front_row,
        together=together,
        stop="read",
        spl=view.job.rig.levels.response_spl_db is not None,
    )


@blueprint.post("/selections")
def keep_selection(job_id: int) -> Response:
    """Keep what is shown under a name; the address is read first, so that none is kept that shows nothing."""
    address = request.form.get("address", "")
    asked = MultiDict(parse_qsl(address[:2000]))
    options_of(asked)
    services().reading.keep_selection(
        job_id, name=request.form.get("name", ""), address=urlencode(list(asked.items(multi=True)))
    )
    return redirect(f"{url_for('read.page', job_id=job_id)}?{urlencode(list(asked.items(multi=True)))}", 303)


@blueprint.post("/selections/<int:number>/forget")
def forget_selection(job_id: int, number: int) -> Response:
    """Forget a kept selection."""
    services().reading.forget_selection(job_id, number)
    return redirect(url_for("read.page", job_id=job_id), 303)


@blueprint.get("/curves.csv")
def curves(job_id: int) -> Response:
    """What is shown, as a table: whole levels on the analysis grid, all else as it is drawn."""
    view = services().reading.view(job_id, options_of(request.args))
    whole = view.options.view == "level" and not view.options.of_one_take
    data = curves_csv(view) if whole else drawn_csv(ReadPage.of(view, None).plots)
    return download(data, f"{view.job.name} {view.round.name} {view.options.view}.csv", "text/csv")


@blueprint.get("/<int:take_id>/impulse.wav")
def impulse(job_id: int, take_id: int) -> Response:
    """The impulse response of a take."""
    data, name = services().reading.impulse(job_id, take_id)
    return download(data, name, "audio/wav")


@blueprint.get("/<int:round_id>/<channel>/responses.sofa")
def responses(job_id: int, round_id: int, channel: str) -> Response:
    """All impulse responses of a channel in a round, with their places."""
    data, name = services().reading.sofa(job_id, round_id, channel)
    return download(data, name, "application/x-hdf5")


@blueprint.get("/moving")
def moving(job_id: int) -> str:
    """What moving the loudspeaker in front would do; by the best of four moves where none is asked for."""
    asked = [request.args.get(f"move_{axis}", "").strip() for axis in "xyz"]
    options = options_of(request.args)
    try:
        view = services().moving.view(job_id, options, move_of(asked))
    except InvalidValue as error:
        return render_template(
            "read/_moving.html", job_id=job_id, fault=str(error), view=None, asked=asked, address=address_of(options)
        )
    return render_template(
        "read/_moving.html",
        job_id=job_id,
        view=view,
        plot=moving_plot(view),
        asked=[f"{100 * by:g}" for by in (view.move.x_m, view.move.y_m, view.move.z_m)],
        told=TOLD_HZ,
        address=address_of(options),
        fault="",
    )
