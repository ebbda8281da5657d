"""The sheets of the Align stop: their names, and what each of them shows."""

from collections.abc import Callable

from flask import Blueprint, request
from werkzeug.wrappers import Response

from dolce.core.room import group_of
from dolce.core.tuning import Alignment
from dolce.services.align.aligning import AlignView
from dolce.web.shared.form_faults import showing_faults
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.align.crossing_views import crossing_page, routing_page
from dolce.web.stops.align.proof_views import seat_curves_plot
from dolce.web.stops.align.sub_views import workbench_page
from dolce.web.stops.align.table_views import AlignmentTableView, change_words, off_words
from dolce.words.unsupported import unsupported_words

blueprint = Blueprint("align", __name__, url_prefix="/jobs/<int:job_id>/align", template_folder="templates")

SHEETS = {
    "alignment_table": "Levels and arrivals",
    "subs": "Subs together",
    "crossover": "Crossovers",
    "routing": "Routing",
    "proof": "Taken through it",
    "kept": "Saved alignments",
}


def show(job_id: int, sheet: str | None = None, **context: object) -> Response:
    """A sheet: the one given, or the one that the request names."""
    wanted = sheet or request.values.get("sheet", "")
    sheet = wanted if wanted in SHEETS else "alignment_table"
    view = services().aligning.view(job_id)
    base = {
        "view": view,
        "sheet": sheet,
        "sheets": SHEETS,
        "faults": {},
        "typed": {},
        "unsupported_words": unsupported_words,
    }
    return show_stop("align", job_id, **{**base, **_CONTEXTS[sheet](job_id, view), **context})


on_sheet = showing_faults(show)


def after(job_id: int, sheet: str) -> Response:
    """After a change on a sheet: that sheet again."""
    return after_change("align", job_id, lambda number: show(number, sheet), sheet=sheet)


def _alignment_table(_job_id: int, view: AlignView) -> dict:
    groups = list(dict.fromkeys("subs" if s.is_sub else group_of(s.channel) for s in view.job.speakers))
    references = [("", "the softest"), *((s.channel, s.channel) for s in view.job.speakers if not s.is_sub)]
    return {
        "alignment_table": AlignmentTableView.of(view),
        "off_words": off_words,
        "level_groups": groups,
        "references": references,
    }


def _subs(job_id: int, _view: AlignView) -> dict:
    return workbench_page(services().workbench.view(job_id, shown=request.values.get("shown", "")))


def _crossover(job_id: int, _view: AlignView) -> dict:
    return crossing_page(
        services().crossing.view(job_id), channel=request.args.get("channel", ""), seat=request.args.get("seat", "")
    )


def _routing(_job_id: int, view: AlignView) -> dict:
    return routing_page(view.alignment or Alignment(), view.job.channels, sample_rate_hz=view.job.rig.sample_rate_hz)


def _proof(job_id: int, view: AlignView) -> dict:
    channels, version = view.job.channels, whole_of(request.args.get("version"))
    channel = request.args.get("channel", "")
    channel = channel if channel in channels else channels[0]
    kept = next((saved for saved in view.versions if saved.number == version), None)
    found = services().aligned.curves(
        job_id, channel=channel, seat_id=whole_of(request.args.get("seat")), version=kept.number if kept else None
    )
    return {
        "proof": services().aligned.view(job_id),
        "slot": view.job.slots[-1],
        "at_seat": found,
        "against": kept,
        "proof_channel": channel,
        "proof_plot": seat_curves_plot(found, kept.alignment.name if kept else "") if found else None,
    }


def _kept(_job_id: int, _view: AlignView) -> dict:
    return {"differs": change_words}


_CONTEXTS: dict[str, Callable[..., dict]] = {
    "alignment_table": _alignment_table,
    "subs": _subs,
    "crossover": _crossover,
    "routing": _routing,
    "proof": _proof,
    "kept": _kept,
}
