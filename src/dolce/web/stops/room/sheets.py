"""The Room stop as a page: its sheets, and what follows every change."""

from collections.abc import Callable, Mapping

from flask import Blueprint, redirect, request, url_for
from werkzeug.wrappers import Response

from dolce.core.room import AIMS, BOX_KINDS, KINDS, LAYOUT_NAMES, LAYOUTS, MATERIALS, OCTAVES_HZ, PATTERNS, SURFACES
from dolce.errors import FormatError, InvalidForm, InvalidValue, Outdated
from dolce.services.room.room_planning import RoomView
from dolce.services.room.room_studies import ModesView, SubPlaceOptions
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import services, show_stop
from dolce.web.stops.room.views import SHEETS, RoomPage, mode_rows, sub_plot

blueprint = Blueprint("room", __name__, url_prefix="/jobs/<int:job_id>/room", template_folder="templates")


def show(
    job_id: int,
    *,
    ghosts: bool = False,
    status: int = 200,
    faults: Mapping[str, str] | None = None,
    typed: Mapping[str, str] | None = None,
    pick: str | None = None,
    notice: str = "",
) -> Response:
    """The page or its fragment, with the sheet and the thing that the request names."""
    sheet = request.values.get("sheet", "places")
    sheet = sheet if sheet in SHEETS else "places"
    pick = request.values.get("pick", "") if pick is None else pick
    view = services().room.view(job_id, ghosts=ghosts)
    mode = whole_of(request.args.get("mode"))
    modes = services().room_studies.modes(view.plan) if sheet == "modes" else None
    if modes is not None and (mode is None or not 1 <= mode <= len(modes.modes.frequency_hz)):
        mode = 1 if len(modes.modes.frequency_hz) else None
    parts: dict[str, Callable[..., dict]] = {
        "places": _of_places,
        "modes": _of_modes,
        "subs": _of_subs,
        "more": _of_shape,
    }
    more = parts.get(sheet)
    extra = more(view, modes, mode) if more else {}
    page = RoomPage.of(
        view, sheet=sheet, pick=pick, modes=modes, mode=None if mode is None else mode - 1, study=extra.get("study")
    )
    partners = [("", "none"), *((s.channel, s.channel) for s in view.plan.main_channels if s.channel != pick)]
    return show_stop(
        "room",
        job_id,
        status=status,
        page=page,
        sheets=SHEETS,
        faults=faults or {},
        typed=typed or {},
        patterns=list(PATTERNS.items()),
        partners=partners,
        what_if=False,
        notice=notice,
        **extra,
    )


def _of_places(view: RoomView, *_: object) -> dict:
    known = LAYOUTS.get(view.plan.layout, {})
    return {
        "layouts": [(name, name) for name in LAYOUT_NAMES],
        "absent": [code for code in known if code not in view.plan.channels],
    }


def _of_modes(view: RoomView, modes: ModesView | None, mode: int | None) -> dict:
    seat = whole_of(request.args.get("seat"))
    seat = seat if seat in [s.id for s in view.plan.seats] else view.plan.main_seat.id
    # Subs are what drives modes; without them the front speakers do.
    driven = view.plan.subs or view.plan.main_channels[:3]
    return {
        "modes": modes,
        "mode": mode,
        "mode_seat": seat,
        "mode_list": mode_rows(modes, view.plan, seat) if modes else [],
        "driven": driven,
        "driven_at": [view.plan.channels.index(s.channel) for s in driven],
        "surfaces": SURFACES,
        "materials": [(m, m) for m in MATERIALS],
        "octaves": OCTAVES_HZ,
    }


def _of_subs(view: RoomView, *_: object) -> dict:
    args = request.args
    asked = "rank" in args
    without = tuple(k for k in (whole_of(t, high=999) for t in args.getlist("without")[:1000]) if k is not None)
    aim = args.get("aim", "")
    options = SubPlaceOptions(
        subs=min(4, max(1, whole_of(args.get("n")) or len(view.plan.subs) or 1)),
        kinds=tuple(k for k in KINDS if k in args.getlist("kind")) if asked else SubPlaceOptions().kinds,
        without=without,
        aim=aim if aim in AIMS else next(iter(AIMS)),
    )
    study = services().room_studies.sub_places(view.plan, options) if asked else None
    plots = {}
    if study is not None and study.ranking is not None:
        plots["best"] = sub_plot(study, study.ranking.best[0], view.plan)
        if study.ranking.present is not None:
            plots["present"] = sub_plot(study, study.ranking.present, view.plan)
    return {
        "options": options,
        "study": study,
        "plots": plots,
        "kinds": KINDS,
        "aims": [(aim, aim.capitalize()) for aim in AIMS],
    }


def _of_shape(*_: object) -> dict:
    return {"box_kinds": [(kind, kind.capitalize()) for kind in BOX_KINDS]}


def changed(
    job_id: int, change: Callable[[], None], *, fault: str = "page", ghosts: bool = False, pick: str | None = None
) -> Response:
    """Make a change and show the page; a value that does not fit is said beside the field `fault`."""
    try:
        change()
    except Outdated as error:
        return show(job_id, status=409, notice=str(error), pick="")
    except InvalidForm as error:
        return show(job_id, status=422, faults=error.faults, typed=request.form, pick=pick)
    except (InvalidValue, FormatError) as error:
        text = (
            f"{error.where}: {error.problem} {error.remedy}"
            if fault in ("page", "size", "file") and error.where
            else f"{error.problem} {error.remedy}"
        )
        return show(job_id, status=422, faults={fault: text}, typed=request.form, pick=pick)
    if request.headers.get("HX-Request"):
        return show(job_id, ghosts=ghosts, pick=pick)
    return redirect(
        url_for(
            "room.page",
            job_id=job_id,
            sheet=request.form.get("sheet") or None,
            pick=pick or request.form.get("pick") or None,
        ),
        303,
    )


def seen() -> str:
    """The version of the plan that the page showed."""
    return request.form.get("seen", "")


def units_of(job_id: int) -> str:
    return services().jobs.get(job_id).units
