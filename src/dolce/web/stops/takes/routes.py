"""Routes of the Takes stop."""

from typing import Any

from flask import Blueprint, make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.job import PassOptions, label_of
from dolce.core.job.passes import Order
from dolce.core.signals import SIGNAL_KINDS
from dolce.errors import DolceError, InvalidValue, NotFound
from dolce.services.read.options import ReadOptions
from dolce.services.takes.board import Board
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.numbers import seen_of, whole_of
from dolce.web.shared.page import after_change, download, services, show_stop
from dolce.web.shared.pressed_once import pressed_once
from dolce.web.stops.takes.next_spot import NextSpot
from dolce.web.stops.takes.views import BoardView, CellView, PassView
from dolce.words.cautions import caution_words

blueprint = Blueprint("takes", __name__, url_prefix="/jobs/<int:job_id>/takes", template_folder="templates")


def _show(job_id: int, *, opened: tuple[str, int] | None = None, **context: Any) -> Response:
    """The board, with the card of a cell where one is open."""
    board = services().taking.board(job_id)
    card = _card(board, *opened) if opened else {"cell": None}
    # While sound plays the board changes with every take: what is odd is looked for when it has ended.
    odd = [] if services().sound.running() else services().taking.odd(board)
    return show_stop(
        "takes",
        job_id,
        board=BoardView.of(board, odd),
        next_spot=NextSpot.of,
        lines=services().lines.view(job_id),
        pass_options=services().taking.options_of(job_id),
        signal_kinds=SIGNAL_KINDS,
        **{"faults": {}, "trouble": "", **card, **context},
    )


def _card(board: Board, channel: str, spot: int) -> dict[str, Any]:
    """What the card of a cell is rendered from."""
    found = services().cells.view(board.job.id, channel, spot)
    noise = None
    if found.counts is not None and found.counts.source == "rig":
        noise = services().reading.of_take(board.job.id, found.counts.id, ReadOptions(view="noise"))
    return {
        "cell": CellView.of(found, board, noise, services().taking.odd(board)),
        "recorder": board.last_recorder,
        "caution_words": caution_words,
    }


def _changed(job_id: int, take_id: int) -> Response:
    """After a change of a take: the board with its cell still open."""
    channel, spot = services().cells.place_of(job_id, take_id)
    return after_change("takes", job_id, lambda job: _show(job, opened=(channel, spot)))


@blueprint.get("")
def page(job_id: int) -> Response:
    """The board, and what the processor really holds."""
    return _show(job_id, trouble=services().processor.looked_at(job_id))


@blueprint.get("/progress")
def progress(job_id: int) -> Response:
    """How far the pass is: figures alone, with the cells that changed, or the whole board when its spot has changed."""
    seen, spot = whole_of(request.args.get("step")), whole_of(request.args.get("spot"))
    running = services().sound.running()
    now = PassView.of(running) if running is not None and (running.job_id, running.kind) == (job_id, "takes") else None
    if running is None or now is None or now.spot != spot:
        response = _show(job_id)
        response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#stop", "outerMorph"
        return response
    if now.step == seen:
        return make_response(
            render_template("takes/_tick.html", job_id=job_id, run=now, percent=round(100 * running.fraction))
        )
    board = BoardView.of(services().taking.board(job_id))
    changed = [cell for row in board.rows for cell in row.cells if cell.channel in running.channels_around(seen or 1)]
    return make_response(
        render_template(
            "takes/_step.html",
            job=board.board.job,
            b=board.board,
            run=now,
            stop="takes",
            status=services().progress.status(job_id),
            changed=[c for c in changed if c.spot in board.placement_now],
        )
    )


@blueprint.get("/<channel>/<int:spot>/cell")
def cell(job_id: int, channel: str, spot: int) -> Response:
    """One cell: its curve, its attempts, and what can be done with it."""
    board = services().taking.board(job_id)
    return make_response(render_template("takes/_cell_card.html", job=board.job, **_card(board, channel, spot)))


@blueprint.post("/take/<int:take_id>/note")
def note(job_id: int, take_id: int) -> Response:
    """Keep a note with a take."""
    services().cells.note(job_id, take_id, request.form.get("note", ""))
    return _changed(job_id, take_id)


@blueprint.post("/take/<int:take_id>/leave-out")
def leave_out(job_id: int, take_id: int) -> Response:
    """Keep a take out of averages."""
    services().cells.leave_out(job_id, take_id, request.form.get("reason", ""))
    return _changed(job_id, take_id)


@blueprint.post("/take/<int:take_id>/take-in")
def take_in(job_id: int, take_id: int) -> Response:
    """Let a take count again."""
    services().cells.take_in(job_id, take_id)
    return _changed(job_id, take_id)


@blueprint.post("/take/<int:take_id>/put-back")
def put_back(job_id: int, take_id: int) -> Response:
    """Let an older attempt count."""
    services().cells.put_back(job_id, take_id)
    return _changed(job_id, take_id)


@blueprint.post("/take/<int:take_id>/remove")
def remove(job_id: int, take_id: int) -> Response:
    """Delete a take; it can be brought back."""
    services().cells.remove(job_id, take_id)
    return _changed(job_id, take_id)


@blueprint.post("/take/<int:take_id>/bring-back")
def bring_back(job_id: int, take_id: int) -> Response:
    """Undo a deletion."""
    services().cells.bring_back(job_id, take_id)
    return _changed(job_id, take_id)


@blueprint.post("/spots/<int:spot>/run")
def run_spot(job_id: int, spot: int) -> Response:
    """Every channel at one spot."""
    services().taking.run_spot(job_id, spot, seen=seen_of(request.args))
    return after_change("takes", job_id, _show)


@blueprint.post("/run")
def run(job_id: int) -> Response:
    """What was chosen, or everything that is missing."""
    form = FormReader(request.form)
    wait = form.of(PassOptions, "wait_s", default=0)
    repeats = form.of(PassOptions, "repeats") if form.filled("repeats") else 0
    order: Order = form.choice("order", ("spot", "channel")) if form.filled("order") else "spot"
    signal = form.choice("signal", tuple(SIGNAL_KINDS)) if form.filled("signal") else "sweep"
    if form.faults:
        return _show(job_id, status=422, faults=form.faults)
    spots = [whole_of(text) for text in request.form.getlist("spot")]
    services().taking.run(
        job_id,
        PassOptions(
            channels=tuple(request.form.getlist("channel")),
            spots=tuple(s for s in spots if s is not None),
            taken_too=form.flag("taken_too"),
            order=order,
            signal=signal,
            wait_s=wait,
            repeats=int(repeats),
        ),
    )
    return after_change("takes", job_id, _show)


@blueprint.post("/pass/<what>")
def steer(job_id: int, what: str) -> Response:
    """Pause the pass, let it go on, or skip its present step."""
    sound = services().sound
    steps = {"pause": sound.pause, "go-on": sound.go_on, "skip": sound.skip}
    if what not in steps:
        raise NotFound(f"there is no {what[:20]!r}.", where="pass", remedy="Reload the page.")
    steps[what]()
    return progress(job_id) if request.headers.get("HX-Request") else after_change("takes", job_id, _show)


@blueprint.post("/<channel>/<int:spot>/repeat")
def repeat(job_id: int, channel: str, spot: int) -> Response:
    """One cell again."""
    services().taking.repeat(job_id, channel, spot, seen=seen_of(request.args))
    return after_change("takes", job_id, _show)


@blueprint.post("/<channel>/<int:spot>/softer")
def softer(job_id: int, channel: str, spot: int) -> Response:
    """One cell once more, 6 dB softer."""
    services().taking.softer(job_id, channel, spot)
    return after_change("takes", job_id, _show)


@blueprint.post("/<channel>/<int:spot>/recording")
def add_recording(job_id: int, channel: str, spot: int) -> Response:
    """A recording made elsewhere, dropped on a cell."""
    try:
        data, name = uploaded(request.files.get("recording"))
        take = services().elsewhere.add(
            job_id, channel, spot, data, file_name=name, recorder=request.form.get("recorder", "")
        )
    except DolceError as error:
        return _show(job_id, status=422, faults={f"{channel}-{spot}": str(error)})
    if not request.headers.get("HX-Request"):
        return after_change("takes", job_id, _show)
    return _show(
        job_id,
        notice=f"{name} is now {label_of(channel)} at spot {spot}: {take.word}. "
        f"{' '.join(map(caution_words, take.cautions))}",
    )


@blueprint.get("/test-signal.wav")
def test_signal(job_id: int) -> Response:
    """The sweep for a player."""
    data, name = services().recordings.test_signal(job_id)
    return download(data, name, "audio/wav")


@blueprint.get("/<int:take_id>/recording")
def recording(job_id: int, take_id: int) -> Response:
    """The raw recording of a take."""
    data, name = services().recordings.original(job_id, take_id)
    return download(data, name, "audio/flac" if name.endswith(".flac") else "audio/wav")


@blueprint.post("/rounds")
@pressed_once
def new_round(job_id: int) -> Response:
    """A new round for the processor's present state."""
    services().rounds.new(job_id, name=request.form.get("name", ""))
    return after_change("takes", job_id, _show)


@blueprint.post("/rounds/choose")
def choose_round(job_id: int) -> Response:
    """Look at another round."""
    chosen = whole_of(request.form.get("round"))
    if chosen is None:
        raise InvalidValue("no round was chosen.", where="round", remedy="Choose one of the list.")
    services().rounds.choose(job_id, chosen)
    return after_change("takes", job_id, _show)
