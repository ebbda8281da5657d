"""Routes of the report."""

from dataclasses import replace
from importlib import resources

from flask import Blueprint, make_response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from dolce.core.job import PARTS
from dolce.errors import InvalidForm, InvalidValue
from dolce.web.report.plots import found_on_paper, proof_on_paper, seats_on_paper
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import download, services
from dolce.web.stops.prove.views import tolerance_rows
from dolce.web.stops.room.drawing import from_above, standalone_style
from dolce.words.room_findings import words_of
from dolce.words.verdicts import heading, sentences

blueprint = Blueprint("report", __name__, url_prefix="/jobs/<int:job_id>/report", template_folder="templates")


@blueprint.get("")
def page(job_id: int) -> Response:
    """The report, with what stands in it to choose."""
    return _page(job_id)


@blueprint.post("")
def say(job_id: int) -> Response:
    """Keep the calibrator's words, and which parts are told."""
    form = FormReader(request.form)
    parts = request.form.getlist("part")
    try:
        words = replace(
            services().reporting.words(job_id),
            by=form.text("by"),
            words=form.text("words"),
            paper=form.text("paper", "A4"),
            left_out=tuple(part for part in PARTS if part not in parts),
        )
        form.done()
    except (InvalidValue, InvalidForm) as error:
        problem = (
            f"{error.problem} {error.remedy}" if isinstance(error, InvalidValue) else "; ".join(error.faults.values())
        )
        return _page(job_id, status=422, fault=problem, typed=request.form)
    services().reporting.say(job_id, words)
    return redirect(url_for("report.page", job_id=job_id), 303)


@blueprint.get("/report.html")
def file(job_id: int) -> Response:
    """The report as one file that needs nothing else."""
    text = _text(job_id, alone=True)
    return download(text.encode(), f"{services().jobs.name(job_id)} report.html", "text/html")


def _page(job_id: int, *, status: int = 200, **context: object) -> Response:
    return make_response(_text(job_id, alone=False, **context), status)


def _text(job_id: int, *, alone: bool, **context: object) -> str:
    report = services().reporting.report(job_id)
    job = report.job
    css = resources.files("dolce.web").joinpath("static", "css", "report.css").read_text("utf-8")
    return render_template(
        "report/page.html",
        alone=alone,
        report=report,
        job=job,
        plan=job.plan,
        style=standalone_style(),
        css=css,
        above=from_above(job.plan, units=job.units),
        verdict=heading(report.verdict),
        why=sentences(report.verdict),
        parts=PARTS,
        plots_before={name: found_on_paper(name, shape) for name, shape in report.shapes.items()},
        plots_after={name: proof_on_paper(proof) for name, proof in report.proof.channels.items()},
        plots_of_seats={
            name: plots for name, proof in report.proof.channels.items() if (plots := seats_on_paper(proof)) is not None
        },
        tolerances=tolerance_rows(report.tolerances),
        findings=[words_of(finding, job.plan, job.units) for finding in report.findings],
        **{"fault": "", "typed": {}, **context},
    )
