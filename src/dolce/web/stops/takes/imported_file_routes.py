"""Routes of the imported files: files made elsewhere, sorted to cells and shown before they are kept."""

from flask import Blueprint, request
from werkzeug.wrappers import Response

from dolce.errors import DolceError
from dolce.services.takes.whole_spot import spot_file
from dolce.web.shared.form_reader import uploaded
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import after_change, download, services, show_stop

blueprint = Blueprint(
    "imported_files", __name__, url_prefix="/jobs/<int:job_id>/takes/imported", template_folder="templates"
)


def _show(job_id: int, *, status: int = 200, **context: object) -> Response:
    board = services().taking.board(job_id)
    items = services().imported_files.items(job_id)
    return show_stop(
        "takes",
        job_id,
        status=status,
        sheet="imported_files",
        items=items,
        b=board,
        recorder=board.last_recorder,
        reading=any(item.what == "reading" for item in items),
        **{"faults": {}, **context},
    )


def _changed(job_id: int) -> Response:
    return after_change("imported_files", job_id, _show)


@blueprint.get("")
def page(job_id: int) -> Response:
    """The imported files."""
    return _show(job_id)


@blueprint.post("")
def add(job_id: int) -> Response:
    """Files chosen or dropped."""
    try:
        services().imported_files.add(
            job_id, [uploaded(file) for file in request.files.getlist("recordings") if file.filename]
        )
    except DolceError as error:
        return _show(job_id, status=422, faults={"recordings": str(error)})
    return _changed(job_id)


@blueprint.post("/keep")
def keep(job_id: int) -> Response:
    """Keep what was sorted as takes; the choices of the page count."""
    _sort_all(job_id)
    kept = services().imported_files.keep(job_id, recorder=request.form.get("recorder", ""))
    notice = f"{kept} takes kept." if kept != 1 else "One take kept."
    if not request.headers.get("HX-Request"):
        return _changed(job_id)
    return _show(job_id, notice=notice)


@blueprint.post("/sort")
def sort(job_id: int) -> Response:
    """Another cell for some files."""
    _sort_all(job_id)
    return _changed(job_id)


@blueprint.post("/drop")
def drop(job_id: int) -> Response:
    """Put one file aside, or all."""
    services().imported_files.drop(job_id, whole_of(request.form.get("file")))
    return _changed(job_id)


@blueprint.get("/whole-spot.wav")
def whole_spot(job_id: int) -> Response:
    """The file that plays a whole spot."""
    file, name = spot_file(services().jobs.get(job_id))
    return download(file, name, "audio/wav")


def _sort_all(job_id: int) -> None:
    for item in services().imported_files.items(job_id):
        code, spot = request.form.get(f"row-{item.number}"), request.form.get(f"spot-{item.number}")
        if code is None and spot is None:
            continue
        wanted = (code if code is not None else item.code, whole_of(spot))
        if wanted != (item.code, item.spot_id):
            services().imported_files.sort(job_id, item.number, code=wanted[0], spot_id=wanted[1])
