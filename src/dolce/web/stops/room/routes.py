"""Routes of the Room stop: the page with its sheets, and one for everything that can be changed."""

from collections.abc import Callable, Mapping

from flask import Blueprint, Response, jsonify, make_response, redirect, render_template, request, url_for

from dolce.core.geometry import Point, RoomSize
from dolce.core.room import (
    AIMS,
    BOX_KINDS,
    KINDS,
    LAYOUT_NAMES,
    LAYOUTS,
    MATERIALS,
    OCTAVES_HZ,
    PATTERNS,
    SURFACES,
    Box,
    Reverberation,
    Seat,
    Speaker,
    place_of,
)
from dolce.errors import FormatError, InvalidForm, InvalidValue, Outdated
from dolce.services.room.room_planning import RoomView, room_schema
from dolce.services.room.room_studies import SubWish
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.numbers import number_of, whole_of
from dolce.web.shared.page import download, services, show_stop
from dolce.web.stops.room.drawing import from_above, standalone_style
from dolce.web.stops.room.views import SHEETS, RoomPage, mode_rows, sub_plot

blueprint = Blueprint("room", __name__, url_prefix="/jobs/<int:job_id>/room", template_folder="templates")
_SPOTS_PER_COLUMN = 20
_BOX_SIZES = {"desk": (1.6, 0.75, 0.04, 0.72), "sofa": (2.0, 0.9, 0.8, 0.0), "screen": (2.0, 0.05, 1.2, 0.8),
              "door": (0.9, 0.08, 2.0, 0.0), "window": (1.2, 0.08, 1.2, 0.9), "cabinet": (0.8, 0.6, 1.8, 0.0),
              "other": (1.0, 1.0, 0.5, 0.0)}             # width, depth, height, underside in m


def _show(job_id: int, *, ghosts: bool = False, status: int = 200, faults: Mapping[str, str] | None = None,
          typed: Mapping[str, str] | None = None, pick: str | None = None, notice: str = "") -> Response:
    """The page or its fragment, with the sheet and the thing that the request names."""
    sheet = request.values.get("sheet", "places")
    sheet = sheet if sheet in SHEETS else "places"
    pick = request.values.get("pick", "") if pick is None else pick
    view = services().room.view(job_id, ghosts=ghosts)
    mode = whole_of(request.args.get("mode"))
    modes = services().room_studies.modes(view.plan) if sheet == "modes" else None
    if modes is not None and (mode is None or not 1 <= mode <= len(modes.modes.frequency_hz)):
        mode = 1 if len(modes.modes.frequency_hz) else None
    more = {"places": _of_places, "modes": _of_modes, "subs": _of_subs, "more": _of_shape}.get(sheet)
    extra = more(view, modes, mode) if more else {}
    page = RoomPage.of(view, sheet=sheet, pick=pick, modes=modes, mode=None if mode is None else mode - 1,
                       study=extra.get("study"))
    partners = [("", "none"), *((s.channel, s.channel) for s in view.plan.mains if s.channel != pick)]
    return show_stop("room", job_id, status=status, page=page, sheets=SHEETS, faults=faults or {}, typed=typed or {},
                     patterns=list(PATTERNS.items()), partners=partners, what_if=False,
                     notice=notice, **extra)


def _of_places(view: RoomView, *_: object) -> dict:
    known = LAYOUTS.get(view.plan.layout, {})
    return {"layouts": [(name, name) for name in LAYOUT_NAMES],
            "absent": [code for code in known if code not in view.plan.channels]}


def _of_modes(view: RoomView, modes, mode: int | None) -> dict:
    seat = whole_of(request.args.get("seat"))
    seat = seat if seat in [s.id for s in view.plan.seats] else view.plan.main_seat.id
    # Subs are what drives modes; without them the front speakers do.
    driven = view.plan.subs or view.plan.mains[:3]
    return {"modes": modes, "mode": mode, "mode_seat": seat, "mode_list": mode_rows(modes, view.plan, seat),
            "driven": driven, "driven_at": [view.plan.channels.index(s.channel) for s in driven],
            "surfaces": SURFACES, "materials": [(m, m) for m in MATERIALS], "octaves": OCTAVES_HZ}


def _of_subs(view: RoomView, *_: object) -> dict:
    args = request.args
    asked = "rank" in args
    without = tuple(k for k in (whole_of(t, high=999) for t in args.getlist("without")[:1000]) if k is not None)
    wish = SubWish(subs=min(4, max(1, whole_of(args.get("n")) or len(view.plan.subs) or 1)),
                   kinds=tuple(k for k in KINDS if k in args.getlist("kind")) if asked else SubWish().kinds,
                   without=without, aim=args.get("aim") if args.get("aim") in AIMS else next(iter(AIMS)))
    study = services().room_studies.sub_places(view.plan, wish) if asked else None
    plots = {}
    if study is not None and study.ranking is not None:
        plots["best"] = sub_plot(study, study.ranking.best[0], view.plan)
        if study.ranking.present is not None:
            plots["present"] = sub_plot(study, study.ranking.present, view.plan)
    return {"wish": wish, "study": study, "plots": plots, "kinds": KINDS,
            "aims": [(aim, aim.capitalize()) for aim in AIMS]}


def _of_shape(*_: object) -> dict:
    return {"box_kinds": [(kind, kind.capitalize()) for kind in BOX_KINDS]}


def _changed(job_id: int, change: Callable[[], None], *, fault: str = "page", ghosts: bool = False,
             pick: str | None = None) -> Response:
    """Make a change and show the page; a value that does not fit is said beside the field `fault`."""
    try:
        change()
    except Outdated as error:
        return _show(job_id, status=409, notice=str(error), pick="")
    except InvalidForm as error:
        return _show(job_id, status=422, faults=error.faults, typed=request.form, pick=pick)
    except (InvalidValue, FormatError) as error:
        text = f"{error.where}: {error.problem} {error.remedy}" if fault in ("page", "size", "file") and error.where \
            else f"{error.problem} {error.remedy}"
        return _show(job_id, status=422, faults={fault: text}, typed=request.form, pick=pick)
    if request.headers.get("HX-Request"):
        return _show(job_id, ghosts=ghosts, pick=pick)
    return redirect(url_for("room.page", job_id=job_id, sheet=request.form.get("sheet") or None,
                            pick=pick or request.form.get("pick") or None), 303)


def _seen() -> str:
    """The version of the plan that the page showed."""
    return request.form.get("seen", "")


def _units(job_id: int) -> str:
    return services().jobs.get(job_id).units


@blueprint.get("")
def page(job_id: int) -> Response:
    """Drawings, the picked thing, and one of the sheets."""
    return _show(job_id)


@blueprint.post("/undo")
def undo(job_id: int) -> Response:
    """Take the last change back."""
    return _changed(job_id, lambda: services().room.undo(job_id, seen=_seen()))


@blueprint.post("/redo")
def redo(job_id: int) -> Response:
    """Do it again."""
    return _changed(job_id, lambda: services().room.redo(job_id, seen=_seen()))


@blueprint.post("/put-back", endpoint="put_back")
def put_back(job_id: int) -> Response:
    """The thing that was just moved goes back."""
    return _changed(job_id, lambda: services().room.undo(job_id, seen=_seen()))


@blueprint.post("/size")
def set_size(job_id: int) -> Response:
    """Length, width, height, temperature."""
    job = services().jobs.get(job_id)
    form = FormReader(request.form, kept={"temperature": job.room.temperature_c})
    length, width, height = (
        form.length_of(RoomSize, f"{name}_m", typed=name, units=job.units, now=getattr(job.room, f"{name}_m"))
        for name in ("length", "width", "height"))
    temperature = form.of(RoomSize, "temperature_c", typed="temperature")

    def change() -> None:
        form.done()
        services().room.set_size(job_id, RoomSize(length_m=length, width_m=width, height_m=height,
                                                  temperature_c=temperature))

    return _changed(job_id, change, fault="size")


@blueprint.post("/layout")
def set_layout(job_id: int) -> Response:
    """Another layout or number of subs."""
    form = FormReader(request.form)
    layout, subs = form.choice("layout", LAYOUT_NAMES), form.whole("subs", low=0, high=4)

    def change() -> None:
        form.done()
        services().room.set_layout(job_id, layout, subs=subs)

    return _changed(job_id, change)


@blueprint.post("/mirror")
def set_mirror(job_id: int) -> Response:
    """Whether pairs move mirrored."""
    return _changed(job_id, lambda: services().room.set_mirror(job_id, "mirror" in request.form))


def _place(job_id: int, thing: str, form: FormReader) -> Point:
    """A place typed in the job's units, or dragged (metres); what was not typed stays."""
    if request.form.get("dragged"):
        return Point(**{f"{axis}_m": round(form.number(axis, low=-100, high=100), 4) for axis in "xyz"})
    job = services().jobs.get(job_id)
    now, units, values = place_of(job.plan, thing), job.units, []
    for axis, here in (("x", now.x_m), ("y", now.y_m), ("z", now.z_m)):
        if axis in request.form:
            here = form.length_m(axis, low=-100, high=100, units=units, now=here)
        values.append(round(here, 4))
    return Point(x_m=values[0], y_m=values[1], z_m=values[2])


@blueprint.post("/move/<thing>")
def move(job_id: int, thing: str) -> Response:
    """A new place for a speaker, seat, spot, drawing or corner."""
    form = FormReader(request.form)
    place = _place(job_id, thing, form)

    def change() -> None:
        if form.faults:
            raise InvalidForm({thing: " ".join(f"{axis}: {text}" for axis, text in form.faults.items())})
        services().room.move(job_id, thing, place, seen=_seen())

    return _changed(job_id, change, fault=thing, ghosts=True, pick=thing)


@blueprint.post("/what-if")
def what_if(job_id: int) -> Response:
    """Figures and findings as they would be, while something is dragged; nothing is kept."""
    thing = request.form.get("thing", "")
    form = FormReader(request.form)
    place = _place(job_id, thing, form)
    form.done()
    try:
        view = services().room.what_if(job_id, thing, place)
    except InvalidValue as error:
        return make_response(f'<p id="room-live" data-live class="fault-text">{error.problem}</p>', 200)
    sheet = "findings" if request.form.get("sheet") == "findings" else "places"
    moved = {key: [p.x_m, p.y_m, p.z_m] for key in view.ghosts if key != thing
             for p in (place_of(view.plan, key),)}
    if thing.startswith("seat-"):
        moved |= {f"spot-{s.id}": [s.place.x_m, s.place.y_m, s.place.z_m]
                  for s in view.plan.spots_of(whole_of(thing[5:]) or 0)}
    return make_response(render_template("room/_what_if.html", job=view.job, moved=moved, faults={}, typed={},
                                         page=RoomPage.while_moving(view, sheet=sheet, pick=thing)))


@blueprint.post("/speakers/<channel>")
def set_speaker(job_id: int, channel: str) -> Response:
    """Aim, source, low limit, output, partner of a speaker."""
    kept = services().jobs.get(job_id).speaker(channel)
    form = FormReader(request.form, kept={
        "aim": kept.aim, "toe_in": kept.toe_in_deg, "source": kept.source, "low_limit": kept.low_limit_hz,
        "output": kept.output, "partner": kept.partner or ""})
    values = {"aim": form.choice("aim", ("main seat", "straight", "angle")),
              "toe_in_deg": form.of(Speaker, "toe_in_deg", typed="toe_in", unit="°", default=0.0),
              "source": form.choice("source", ("point", "line")),
              "low_limit_hz": form.of(Speaker, "low_limit_hz", typed="low_limit", default=0.0) or None,
              "output": form.of(Speaker, "output"), "in_wall": form.flag("in_wall"),
              "partner": form.text("partner") or None}

    def change() -> None:
        form.done()
        services().room.set_speaker(job_id, channel, **values)

    return _changed(job_id, change, fault="speaker", pick=channel)


@blueprint.post("/channels/<code>/add")
def add_channel(job_id: int, code: str) -> Response:
    """A channel of the layout that is not there."""
    return _changed(job_id, lambda: services().room.add_channel(job_id, code), pick=code)


@blueprint.post("/channels")
def add_own_channel(job_id: int) -> Response:
    """A channel of one's own."""
    code, name = request.form.get("code", "").strip(), request.form.get("channel_name", "").strip()

    def change() -> None:
        services().room.add_channel(job_id, code, name=name)

    return _changed(job_id, change, fault="channel", pick=code)


@blueprint.post("/channels/<code>/remove")
def remove_channel(job_id: int, code: str) -> Response:
    """Set a channel aside."""
    return _changed(job_id, lambda: services().room.remove_channel(job_id, code), pick="")


@blueprint.post("/seats")
def add_seat(job_id: int) -> Response:
    """One seat more."""
    return _changed(job_id, lambda: services().room.add_seat(job_id, request.form.get("name", "")), fault="seat")


@blueprint.post("/seats/<int:seat_id>")
def set_seat(job_id: int, seat_id: int) -> Response:
    """Name, weight, whether it is the main seat."""
    form = FormReader(request.form, kept=services().jobs.get(job_id).plan.seat(seat_id))
    weight = form.of(Seat, "weight")
    name, main = form.text("name"), form.flag("main")

    def change() -> None:
        if form.faults:
            said = " ".join(f"{field.capitalize()}: {text}" for field, text in form.faults.items())
            raise InvalidForm({f"seat-row-{seat_id}": said})
        services().room.set_seat(job_id, seat_id, name=name, weight=weight, main=main)

    return _changed(job_id, change, fault=f"seat-row-{seat_id}")


@blueprint.post("/seats/<int:seat_id>/remove")
def remove_seat(job_id: int, seat_id: int) -> Response:
    """A seat and its spots go."""
    return _changed(job_id, lambda: services().room.remove_seat(job_id, seat_id), pick="")


@blueprint.post("/spots")
def lay_out(job_id: int) -> Response:
    """Spots by a pattern."""
    form = FormReader(request.form)
    pattern, seat = form.choice("pattern", tuple(PATTERNS)), form.whole("seat", low=1, high=999)
    count = form.whole("count", low=1, high=25)
    spacing = form.length_m("spacing", low=0.05, high=1.5, units=_units(job_id))

    def change() -> None:
        form.done()
        services().room.lay_out_spots(job_id, pattern, seat_id=seat, count=count, spacing_m=spacing)

    return _changed(job_id, change)


@blueprint.post("/spots/add")
def add_spot(job_id: int) -> Response:
    """One spot more at the picked seat, or at the main one."""
    plan = services().jobs.get(job_id).plan
    pick = request.form.get("pick", "")
    seat = (whole_of(pick[5:]) if pick.startswith("seat-") else None) or plan.main_seat.id
    return _changed(job_id, lambda: services().room.add_spot(job_id, seat), pick=f"spot-{plan.last_spot_id + 1}")


@blueprint.post("/spots/walk")
def walk_anew(job_id: int) -> Response:
    """Number the spots as one walks."""
    return _changed(job_id, lambda: services().room.walk_anew(job_id))


@blueprint.post("/spots/<int:spot_id>/belongs")
def set_spot(job_id: int, spot_id: int) -> Response:
    """To a seat, close to a speaker, or free."""
    kind, _, which = request.form.get("to", "").partition(":")
    return _changed(job_id, lambda: services().room.set_spot(
        job_id, spot_id, seat_id=(whole_of(which) or 0) if kind == "seat" else None,
        close_to=which if kind == "speaker" else ""), pick=f"spot-{spot_id}")


@blueprint.post("/spots/<int:spot_id>/remove")
def remove_spot(job_id: int, spot_id: int) -> Response:
    """One spot less."""
    return _changed(job_id, lambda: services().room.remove_spot(job_id, spot_id), pick="")


@blueprint.post("/boxes")
def add_box(job_id: int) -> Response:
    """A desk, sofa, screen ... before the main seat, to be moved."""
    form = FormReader(request.form)
    kind = form.choice("kind", BOX_KINDS)
    plan = services().jobs.get(job_id).plan
    width, depth, height, underside = _BOX_SIZES[kind]
    seat = plan.main_seat.place
    number = max((b.id for b in plan.boxes), default=0) + 1

    def change() -> None:
        form.done()
        services().room.add_box(job_id, Box(
            id=number, kind=kind, width_m=min(width, plan.size.width_m), depth_m=depth, height_m=height,
            place=Point(x_m=seat.x_m, y_m=max(0.1, seat.y_m - 0.75), z_m=underside)))

    return _changed(job_id, change, pick=f"box-{number}")


@blueprint.post("/boxes/<int:box_id>")
def set_box(job_id: int, box_id: int) -> Response:
    """Name and size of a drawing."""
    job = services().jobs.get(job_id)
    box = job.plan.box(box_id)
    form = FormReader(request.form, kept={"box_name": box.name})
    sizes = {f"{name}_m": form.length_m(f"box_{name}", low=0.01, high=30, units=job.units, now=now)
             for name, now in (("width", box.width_m), ("depth", box.depth_m), ("height", box.height_m))}

    def change() -> None:
        form.done()
        services().room.set_box(job_id, box_id, name=form.text("box_name")[:40], **sizes)

    return _changed(job_id, change, fault="box")


@blueprint.post("/boxes/<int:box_id>/remove")
def remove_box(job_id: int, box_id: int) -> Response:
    """A drawing goes."""
    return _changed(job_id, lambda: services().room.remove_box(job_id, box_id), pick="")


@blueprint.post("/outline/start")
def start_outline(job_id: int) -> Response:
    """The box's corners, to be moved."""
    return _changed(job_id, lambda: services().room.start_outline(job_id), pick="corner-1")


@blueprint.post("/outline")
def set_outline(job_id: int) -> Response:
    """Corners as typed."""
    units, corners = _units(job_id), []
    texts = zip(request.form.getlist("cx"), request.form.getlist("cy"), strict=False)
    form = FormReader({})
    for number, (x, y) in enumerate(texts, 1):
        one = FormReader({"x": x, "y": y})
        corners.append(tuple(one.length_m(axis, low=0, high=30, units=units) for axis in "xy"))
        if one.faults:
            form.faults["outline"] = f"Corner {number}: {' '.join(one.faults.values())}"

    def change() -> None:
        form.done()
        services().room.set_outline(job_id, corners)

    return _changed(job_id, change, fault="outline")


@blueprint.post("/outline/clear")
def clear_outline(job_id: int) -> Response:
    """A plain box again."""
    return _changed(job_id, lambda: services().room.set_outline(job_id, ()), pick="")


@blueprint.post("/outline/corners/<int:number>/add")
def add_corner(job_id: int, number: int) -> Response:
    """A corner in the middle of the wall behind this one."""
    return _changed(job_id, lambda: services().room.add_corner(job_id, number, seen=_seen()),
                    pick=f"corner-{number + 1}")


@blueprint.post("/outline/corners/<int:number>/remove")
def remove_corner(job_id: int, number: int) -> Response:
    """One corner less."""
    return _changed(job_id, lambda: services().room.remove_corner(job_id, number, seen=_seen()), pick="")


@blueprint.post("/reverberation")
def set_reverberation(job_id: int) -> Response:
    """A typed time, or what the surfaces are made of."""
    old = services().jobs.get(job_id).plan.reverberation
    form = FormReader(request.form)
    source = form.choice("decay_source", ("typed", "surfaces"))
    typed = form.number("typed_s", low=0.05, high=5, unit="s", default=old.typed_s)
    surfaces = {s: request.form.get(f"surface-{k}", old.surfaces[s]) for k, s in enumerate(SURFACES)}

    def change() -> None:
        form.done()
        services().room.set_reverberation(job_id, Reverberation(source=source, typed_s=typed, surfaces=surfaces))

    return _changed(job_id, change, fault="decay")


@blueprint.post("/subs")
def place_subs(job_id: int) -> Response:
    """The subs go to ranked places."""
    axes = [[number_of(part) for part in text.split()] for text in request.form.getlist("place")[:4]]
    if any(len(place) != 3 or None in place for place in axes):
        raise InvalidValue("these are no places.", where="subs", remedy="Rank the places again.")
    places = [Point(x_m=x, y_m=y, z_m=z) for x, y, z in axes]
    return _changed(job_id, lambda: services().room.place_subs(job_id, places), ghosts=True)


@blueprint.post("/findings/dismiss")
def dismiss(job_id: int) -> Response:
    """Set a finding aside with a reason."""
    return _changed(job_id, lambda: services().room.dismiss(
        job_id, request.form.get("key", ""), reason=request.form.get("reason", "")), fault="reason")


@blueprint.post("/findings/take-up")
def take_up(job_id: int) -> Response:
    """Bring a finding back."""
    return _changed(job_id, lambda: services().room.take_up(job_id, request.form.get("key", "")))


@blueprint.get("/spot-sheet")
def spot_sheet(job_id: int) -> Response:
    """One page to print: the plan and the table of spots."""
    job = services().jobs.get(job_id)
    spots = job.plan.spots
    parts = [spots[k:k + _SPOTS_PER_COLUMN] for k in range(0, len(spots), _SPOTS_PER_COLUMN)]
    return make_response(render_template("room/spot_sheet.html", job=job, plan=job.plan, parts=parts,
                                         above=from_above(job.plan, units=job.units)))


@blueprint.get("/room.json")
def room_file(job_id: int) -> Response:
    """The room as JSON."""
    data, name = services().room.room_file(job_id)
    return download(data, name, "application/json")


@blueprint.get("/places.csv")
def places_file(job_id: int) -> Response:
    """The coordinates as CSV."""
    data, name = services().room.places_file(job_id)
    return download(data, name, "text/csv; charset=utf-8")


@blueprint.get("/plan.svg")
def plan_svg(job_id: int) -> Response:
    """The plan as a drawing that stands alone."""
    job = services().jobs.get(job_id)
    text = render_template("room/plan.svg", job=job, plan=job.plan, style=standalone_style(),
                           above=from_above(job.plan, units=job.units))
    return download(text.strip().encode(), f"{job.name} plan.svg", "image/svg+xml")


@blueprint.get("/schema.json")
def schema(job_id: int) -> Response:
    """How a room file is built."""
    services().jobs.get(job_id)
    return jsonify(room_schema())


@blueprint.post("/file")
def use_file(job_id: int) -> Response:
    """A room from JSON, or places from CSV."""
    def change() -> None:
        data, name = uploaded(request.files.get("file"))
        services().room.use_file(job_id, data, name=name)

    return _changed(job_id, change, fault="file")

