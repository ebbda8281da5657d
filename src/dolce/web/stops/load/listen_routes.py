"""Routes of the Listen sheet: what is compared, its sound, blind trials, preference, and what was heard."""

from dataclasses import replace
from typing import Any

from flask import make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.correction import Preference
from dolce.services.load.audition import ListenOptions
from dolce.services.load.packing import ORDER_WORDS
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.numbers import number_of, whole_of
from dolce.web.shared.page import services
from dolce.web.stops.load.sheets import after, blueprint, on_sheet, show

_SOUND = "audio/flac"


@blueprint.post("/listen/render")
def begin_listening(job_id: int) -> Response:
    """Render what is asked for behind the page."""
    form = request.form
    services().listening.begin(
        job_id,
        ListenOptions(
            material=form.get("material", ""),
            start_s=number_of(form.get("start_s")) or 0.0,
            seat_id=whole_of(form.get("seat")) or 0,
            two_ears=bool(form.get("two_ears")),
            compared=tuple(form.getlist("compare")),
        ),
    )
    return after(job_id, "listen")


@blueprint.get("/listen/progress")
def listening_progress(job_id: int) -> Response:
    """How far it is; the whole sheet as soon as it is done."""
    work = services().listening.work(job_id)
    if work is not None and work.running:
        response = make_response(render_template("load/_listen_work.html", work=work, job_id=job_id))
        response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#listen-work", "outerMorph"
        return response
    return show(job_id, "listen")


@blueprint.post("/listen/stop")
def stop_listening(job_id: int) -> Response:
    """End it; what was rendered before stays."""
    services().listening.stop(job_id)
    return after(job_id, "listen")


@blueprint.post("/listen/recording")
def hand_in_recording(job_id: int) -> Response:
    """A recording of one's own."""
    data, name = uploaded(request.files.get("recording"))
    order = request.form.get("order", "")
    services().listening.hand_in(job_id, data, name=name, order=order if order in ORDER_WORDS else "broadcast")
    return after(job_id, "listen")


@blueprint.get("/listen/<int:number>/<int:place>.flac")
def sound_file(job_id: int, number: int, place: int) -> Response:
    """One of what is compared, as loud as the others."""
    return _sound(services().listening.sound(job_id, number, place))


@blueprint.get("/listen/<int:number>/unnamed/<int:trial>.flac")
def unnamed_sound(job_id: int, number: int, trial: int) -> Response:
    """The one that a trial asks for."""
    return _sound(services().listening.hidden_sound(job_id, number, trial))


def _sound(data: bytes) -> Response:
    response = make_response(data)
    response.mimetype = _SOUND
    response.cache_control.no_store = True
    return response


@blueprint.post("/listen/preference")
@on_sheet("listen")
def turn_preference(job_id: int) -> Response:
    """Tilt, bass and treble on top of one of them."""
    form = FormReader(request.form)
    preference = Preference()
    values: dict[str, Any] = {
        field: form.of(Preference, field) for field in ("tilt_db_per_octave", "bass_db", "treble_db")
    }
    form.done()
    services().listening.turn(job_id, request.form.get("of", ""), replace(preference, **values))
    return after(job_id, "listen")


@blueprint.post("/listen/preference/keep")
def keep_preference(job_id: int) -> Response:
    """Find filters for it, and keep them as a version."""
    services().listening.keep_preference(job_id, request.form.get("name", ""))
    return after(job_id, "listen")


@blueprint.post("/listen/blind")
def begin_blind(job_id: int) -> Response:
    """Ten trials between two."""
    services().listening.begin_blind(job_id, request.form.get("first", ""), request.form.get("second", ""))
    return after(job_id, "listen")


@blueprint.post("/listen/blind/<int:trial>")
def answer_blind(job_id: int, trial: int) -> Response:
    """What was said of a trial."""
    services().listening.answer(job_id, trial, request.form.get("said", ""))
    return after(job_id, "listen")


@blueprint.post("/listen/blind/end")
def end_blind(job_id: int) -> Response:
    """Back to names."""
    services().listening.end_blind(job_id)
    return after(job_id, "listen")


@blueprint.post("/listen/room/<key>")
def play_in_room(job_id: int, key: str) -> Response:
    """Through a preset in the room; another one at the same place where it plays already."""
    room = services().room_listening
    if room.look(job_id) is None:
        room.start(job_id, key)
    else:
        room.switch(job_id, key)
    return after(job_id, "listen")


@blueprint.post("/listen/room/level/<direction>")
def room_level(job_id: int, direction: str) -> Response:
    """3 dB up or down."""
    services().room_listening.louder(job_id, 3.0 if direction == "up" else -3.0)
    return after(job_id, "listen")


@blueprint.get("/listen/room")
def played_in_room(job_id: int) -> str:
    """What plays there; while somebody asks, it goes on."""
    return render_template(
        "load/_listen_room.html",
        room=services().room_listening.look(job_id),
        job_id=job_id,
        audition=services().listening.cache(job_id),
    )


@blueprint.post("/listen/note")
def note_heard(job_id: int) -> Response:
    """What was heard, into the logbook."""
    services().listening.note(job_id, request.form.get("text", ""))
    return after(job_id, "listen")
