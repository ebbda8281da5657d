"""Routes of the sub workbench."""

from flask import make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.subs import SearchLimits, SubSetting
from dolce.core.tuning import BassRequest
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import services
from dolce.web.stops.align.sheets import after, blueprint, on_sheet, show
from dolce.web.stops.align.sub_views import workbench_page


@blueprint.post("/subs/search")
@on_sheet("subs")
def search_subs(job_id: int) -> Response:
    """Look for settings within limits; within the usual ones where none are sent."""
    form = FormReader(request.form)
    if "max_loss_db" not in request.form:
        services().workbench.search(job_id, SearchLimits())
        return after(job_id, "subs")
    limits = SearchLimits(
        max_loss_db=form.of(SearchLimits, "max_loss_db"),
        max_cut_db=form.of(SearchLimits, "max_cut_db"),
        max_delay_s=form.of(SearchLimits, "max_delay_s", typed="max_delay_ms", per_unit=1000, unit="ms"),
        all_passes=int(form.of(SearchLimits, "all_passes", default=0)) if form.filled("all_passes") else 0,
    )
    form.done()
    services().workbench.search(job_id, limits)
    return after(job_id, "subs")


@blueprint.post("/subs/stop")
def stop_search(job_id: int) -> Response:
    """End the search with the best until then."""
    services().workbench.stop(job_id)
    return after(job_id, "subs")


@blueprint.get("/subs/progress")
def search_progress(job_id: int) -> Response:
    """How far the search is; the whole sheet once it is done."""
    view = services().workbench.view(job_id)
    if view.searching is None or not view.searching.running:
        return show(job_id, "subs")
    response = make_response(render_template("align/_search_progress.html", bench=view, job_id=job_id))
    response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#search-progress", "outerHTML"
    return response


@blueprint.post("/subs/bass")
@on_sheet("subs")
def search_bass(job_id: int) -> Response:
    """Look for filters of the common bass."""
    form = FormReader(request.form)
    asked = BassRequest(
        play=form.choice("play", ("all", "subs")),
        hand_over_hz=form.of(BassRequest, "hand_over_hz"),
        max_loss_db=form.of(BassRequest, "max_loss_db", typed="bass_loss_db"),
        length_s=form.of(BassRequest, "length_s", typed="length_ms", per_unit=1000, unit="ms"),
        latency_s=form.of(BassRequest, "latency_s", typed="latency_ms", per_unit=1000, unit="ms"),
    )
    form.done()
    services().common_bass.search(job_id, asked)
    return after(job_id, "subs")


@blueprint.post("/subs/bass/stop")
def stop_bass(job_id: int) -> Response:
    """End the search for filters; nothing of it is kept."""
    services().common_bass.stop(job_id)
    return after(job_id, "subs")


@blueprint.get("/subs/bass/progress")
def bass_progress(job_id: int) -> Response:
    """How far the search for filters is; the whole sheet once it is done."""
    search = services().common_bass.search_of(job_id)
    if search is None or not search.running:
        return show(job_id, "subs")
    response = make_response(render_template("align/_bass_progress.html", bass_search=search, job_id=job_id))
    response.headers["HX-Retarget"], response.headers["HX-Reswap"] = "#bass-progress", "outerHTML"
    return response


@blueprint.post("/subs/bass/leave")
def leave_bass(job_id: int) -> Response:
    """Each sub gets gain, delay and polarity alone again."""
    services().common_bass.leave(job_id)
    return after(job_id, "subs")


@blueprint.post("/subs/hand")
@on_sheet("subs")
def by_hand(job_id: int) -> Response:
    """What settings by hand do; they are kept only when they are used."""
    hand = _hand(job_id)
    page = workbench_page(services().workbench.view(job_id, shown="by-hand", hand=hand))
    if request.form.get("use"):
        services().workbench.use(job_id, "by-hand", hand=hand)
        return after(job_id, "subs")
    return show(job_id, "subs", **page)


@blueprint.post("/subs/use/<code>")
def use_subs(job_id: int, code: str) -> Response:
    """Take over the settings of a state."""
    services().workbench.use(job_id, code)
    return after(job_id, "subs")


@blueprint.post("/subs/apart")
def subs_apart(job_id: int) -> Response:
    """Subs stand for themselves again."""
    services().workbench.apart(job_id)
    return after(job_id, "subs")


def _hand(job_id: int) -> dict[str, SubSetting]:
    form = FormReader(request.form)
    nudged = request.form.get("nudge", "")
    # All-passes are found, not nudged: they stay those of what is nudged.
    of = services().workbench.view(job_id).states.get(request.form.get("of", ""))
    found = {}
    for speaker in services().jobs.get(job_id).speakers:
        if not speaker.is_sub:
            continue
        sub = speaker.channel
        delay_ms = form.number(f"delay-{sub}", low=0, high=100, unit="ms", default=0.0)
        gain_db = form.number(f"gain-{sub}", low=-20, high=0, unit="dB", default=0.0)
        turned = request.form.get(f"polarity-{sub}") == "inverted"
        # A press on a nudge is "Sub1:delay:0.5".
        name, what, step = [*nudged.split(":"), "", "", ""][:3]
        if name == sub and what in ("delay", "gain"):
            steps = {"-1": -1.0, "1": 1.0, "-0.1": -0.1, "0.1": 0.1, "-0.5": -0.5, "0.5": 0.5}.get(step, 0.0)
            delay_ms = min(max(delay_ms + steps, 0.0), 100.0) if what == "delay" else delay_ms
            gain_db = min(max(gain_db + steps, -20.0), 0.0) if what == "gain" else gain_db
        elif name == sub and what == "turn":
            turned = not turned
        kept = of.settings.get(sub) if of else None
        found[sub] = SubSetting(
            delay_s=round(delay_ms, 3) / 1000,
            gain_db=round(gain_db, 2),
            all_pass=kept.all_pass if kept else (),
            polarity=-1 if turned else 1,
        )
    form.done()
    return found
