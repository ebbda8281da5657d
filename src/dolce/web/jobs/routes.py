"""Routes of the list of jobs."""

from pathlib import Path

from flask import Blueprint, current_app, make_response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dolce.core.geometry import RoomSize
from dolce.core.job import UNITS
from dolce.core.room import LAYOUT_NAMES, SUB_CODES, USUAL_SIZE, RoomPlan, new_plan
from dolce.errors import Conflict, FormatError, InvalidForm, InvalidValue
from dolce.services.jobs.job_keeping import JobDetails
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import download, services
from dolce.web.shared.pressed_once import pressed_once

blueprint = Blueprint("jobs", __name__, template_folder="templates")
MOST_SUBS = len(SUB_CODES)


def _page(*, status: int = 200, **context: object) -> Response:
    of = services()
    jobs, damaged = of.jobs.listing()
    return make_response(
        render_template(
            "jobs/page.html",
            jobs=jobs,
            damaged=damaged,
            deleted=of.jobs.deleted(),
            preparation=of.preparing.present,
            backups=of.backups.files(),
            backup_folder=_shown(of.backups.folder),
            size=USUAL_SIZE,
            layouts=[(name, name) for name in LAYOUT_NAMES],
            subs=[("", "by layout"), *((count, count or "none") for count in range(MOST_SUBS + 1))],
            work=of.folder_work.present,
            space=of.space.view(),
            **{"faults": {}, "typed": {}, "editing": None, **context},
        ),
        status,
    )


def _shown(folder: Path) -> str:
    """A folder as people write it: their own home is ~."""
    return f"~/{folder.relative_to(Path.home())}" if folder.is_relative_to(Path.home()) else str(folder)


def _details(form: FormReader) -> JobDetails:
    return JobDetails(
        name=form.text("name"),
        place=form.text("place"),
        notes=form.text("notes"),
        units=form.choice("units", UNITS) if form.filled("units") else "metres",
    )


@blueprint.get("/")
def page() -> Response:
    """The list."""
    return _page()


@blueprint.get("/jobs/preparing")
def preparing() -> Response:
    """How far the sample jobs are."""
    return make_response(render_template("jobs/_preparing.html", preparation=services().preparing.present))


@blueprint.post("/jobs/preparing/stop")
def stop_preparing() -> Response:
    """Leave the sample jobs as they are."""
    services().preparing.give_up()
    return redirect(url_for("jobs.page"), 303)


def _plan(form: FormReader, units: str) -> RoomPlan:
    """The room as it was typed, with loudspeakers where the layout wants them; a usual one where nothing was."""
    if not form.filled("layout"):
        return new_plan()
    length, width, height = (
        form.length_of(RoomSize, f"{name}_m", typed=name, units=units, now=getattr(USUAL_SIZE, f"{name}_m"))
        for name in ("length", "width", "height")
    )
    layout, subs = form.choice("layout", LAYOUT_NAMES), form.text("subs")
    form.done()
    size = RoomSize(length_m=length, width_m=width, height_m=height)
    return new_plan(size, layout=layout, subs=form.whole("subs", low=0, high=MOST_SUBS) if subs else None)


@blueprint.post("/jobs")
@pressed_once
def create() -> Response:
    """A new job, opened at its first stop."""
    form = FormReader(request.form)
    try:
        details = _details(form)
        job = services().jobs.create(details, plan=_plan(form, details.units))
    except InvalidForm as error:
        return _page(status=422, faults=error.faults, typed=request.form)
    return redirect(url_for("room.page", job_id=job.id), 303)


@blueprint.get("/jobs/<int:job_id>")
def open_job(job_id: int) -> Response:
    """Where the job goes on: the first stop that is not finished."""
    status = services().progress.status(job_id)
    stop = next((s.stop for s in status.stops if s.fill != "full"), "prove")
    return redirect(url_for(f"{stop}.page", job_id=job_id))


@blueprint.get("/jobs/<int:job_id>/edit")
def edit(job_id: int) -> Response:
    """The form with a job's name, place, notes, units, and whose room it has."""
    return _page(editing=services().jobs.get(job_id), rooms=_rooms(job_id))


def _rooms(job_id: int) -> list[tuple[str, str]]:
    """Whose room a job can have, to choose from; nothing where there is no choice."""
    others, follows = services().following.may_follow(job_id), services().jobs.get(job_id).follows
    if follows is not None and follows not in dict(others):
        others = [*others, (follows, "a job that is deleted")]
    return [("", "its own"), *((str(number), f"as in {name}") for number, name in others)] if others else []


@blueprint.post("/jobs/<int:job_id>/edit")
def save(job_id: int) -> Response:
    """Keep them."""
    kept, rooms = services().jobs.get(job_id), _rooms(job_id)
    form = FormReader(
        request.form,
        kept={
            "name": kept.name,
            "place": kept.place,
            "notes": kept.notes,
            "units": kept.units,
            "follows": str(kept.follows or ""),
        },
    )
    options = _details(form)
    known = tuple(number for number, _ in rooms) or ("",)
    follows = form.choice("follows", known) if "follows" in request.form else None  # older pages lack it
    try:
        form.done()
        services().jobs.edit(job_id, options)
        if follows is not None:
            services().following.follow(job_id, int(follows) if follows else None)
    except InvalidForm as error:
        return _page(status=422, faults=error.faults, typed=request.form, editing=kept, rooms=rooms)
    except (Conflict, InvalidValue) as error:
        message = str(error)
        return _page(
            status=422,
            faults={"follows": message[0].upper() + message[1:]},
            typed=request.form,
            editing=services().jobs.get(job_id),
            rooms=rooms,
        )
    return redirect(url_for("jobs.page"), 303)


@blueprint.post("/jobs/<int:job_id>/copy")
@pressed_once
def copy(job_id: int) -> Response:
    """A second job: with everything in it, without takes, for a re-check, or for other loudspeakers there."""
    jobs, kind = services().jobs, request.form.get("kind", "all")
    if kind == "recheck":
        jobs.copy_for_recheck(job_id)
    elif kind == "speakers":
        jobs.copy_for_other_speakers(job_id)
    else:
        jobs.copy(job_id, with_takes=kind != "room")
    return redirect(url_for("jobs.page"), 303)


@blueprint.get("/jobs/<int:job_id>/delete")
def ask_delete(job_id: int) -> Response:
    """Ask before deleting."""
    return _page(asking={"id": job_id, "name": services().jobs.name(job_id)})


@blueprint.post("/jobs/<int:job_id>/delete")
def delete(job_id: int) -> Response:
    """Set aside; the list offers to bring it back."""
    services().jobs.delete(job_id)
    sessions = current_app.extensions["dolce-remote"]
    if sessions.present is not None and sessions.present.job_id == job_id:
        sessions.stop("Its job was deleted.")
    return redirect(url_for("jobs.page"), 303)


@blueprint.get("/jobs/<int:job_id>/readable.zip")
def salvage(job_id: int) -> Response:
    """What can be read of a job that is damaged."""
    data, name = services().jobs.salvage(job_id)
    return download(data, name, "application/zip")


@blueprint.post("/jobs/<int:job_id>/restore")
def restore(job_id: int) -> Response:
    """Bring back what was deleted."""
    services().jobs.restore(job_id)
    return redirect(url_for("jobs.page"), 303)


@blueprint.get("/space")
def ask_space() -> Response:
    """Ask before deleted jobs are let go for good."""
    return _page(asking_space=True)


@blueprint.post("/space")
def give_back() -> Response:
    """Let go of deleted jobs, and make the file as small as what is in it."""
    services().space.begin()
    return redirect(url_for("jobs.page"), 303)


@blueprint.post("/backups")
@pressed_once
def back_up() -> Response:
    """Keep one job, or all, in one file."""
    wanted = whole_of(request.form.get("job"))
    ids = [job.id for job in services().jobs.all()] if wanted is None else [wanted]
    services().backups.begin_backup(ids)
    return redirect(url_for("jobs.page"), 303)


@blueprint.get("/backups/work")
def backup_work() -> Response:
    """How far it is; the whole list once it has ended."""
    work = services().folder_work.present
    response = make_response(render_template("jobs/_backup_work.html", work=work))
    if work is None or not work.running:
        response.headers["HX-Refresh"] = "true"
    return response


@blueprint.post("/backups/stop")
def stop_backup() -> Response:
    """End it; everything is as it was."""
    services().folder_work.stop()
    return redirect(url_for("jobs.page"), 303)


@blueprint.post("/backups/add")
@pressed_once
def add_backup() -> Response:
    """Take a file in, and put back what is inside."""
    file = request.files.get("backup")
    if file is None or not file.filename:
        return _page(status=422, faults={"backup": "Choose a file first."})
    try:
        name = services().backups.add(file.stream, file.filename)
    except FormatError as error:
        return _page(status=422, faults={"backup": str(error)})
    finally:
        file.close()
    services().backups.begin_restore(name)
    return redirect(url_for("jobs.page"), 303)


@blueprint.post("/backups/<name>/restore")
@pressed_once
def restore_backup(name: str) -> Response:
    """Put back what is in a file, beside what is there."""
    services().backups.begin_restore(name)
    return redirect(url_for("jobs.page"), 303)


@blueprint.post("/backups/<name>/delete")
def delete_backup(name: str) -> Response:
    """Take a file from the folder."""
    services().backups.delete(name)
    return redirect(url_for("jobs.page"), 303)


@blueprint.get("/backups/<name>")
def fetch_backup(name: str) -> Response:
    """A backup, to be kept elsewhere."""
    path, file_name = services().backups.open(name)
    return download(path.open("rb"), file_name, "application/octet-stream")
