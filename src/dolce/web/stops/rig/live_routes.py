"""Routes of the sheets with live sound: meter and sources, spectrum, level that comes up, reference level, subs."""

from typing import Any

from flask import make_response, render_template, request
from werkzeug.wrappers import Response

from dolce.core.job import Levels
from dolce.core.levels import PER_OCTAVE
from dolce.core.rig import PLACINGS, SubMatch
from dolce.core.signals import KINDS, Source
from dolce.errors import InvalidValue
from dolce.services.rig.live_session import Purpose
from dolce.services.rig.live_sound import AVERAGES_S
from dolce.web.shared.form_reader import FormReader
from dolce.web.shared.page import download, services
from dolce.web.stops.rig import live_views
from dolce.web.stops.rig.sheets import PURPOSE_OF, after, blueprint, on_sheet, show
from dolce.words.rig import change_words, ramp_words

_SOURCE_FIELDS = {
    "level": "level_dbfs",
    "frequency": "frequency_hz",
    "band from": "band_from_hz",
    "band to": "band_to_hz",
}
_MATCH_FIELDS = {
    "tone": "tone_hz",
    "tuning": "tuning_hz",
    "distance": "distance",
    "step": "step_db",
    "level": "level_dbfs",
}


def _purpose(sheet: str) -> Purpose:
    if sheet not in PURPOSE_OF:
        raise InvalidValue(f"{sheet!r} has no live sound.", where="sheet", remedy="Reload the page.")
    return PURPOSE_OF[sheet]


def _kept_purpose(sheet: str) -> Purpose:
    """The purpose of a sheet whose readings are kept."""
    if sheet not in ("reference", "subs"):
        raise InvalidValue(f"readings of {sheet!r} are not kept.", where="sheet", remedy="Reload the page.")
    return PURPOSE_OF[sheet]


@blueprint.get("/live/<sheet>")
def live_part(job_id: int, sheet: str) -> Response:
    """The part that moves, several times a second; the whole sheet as soon as the sound has ended."""
    live = services().live.view(job_id, _purpose(sheet))
    moving = services().live.view(job_id, "moving") if sheet == "spectrum" and not live.running else None
    if not live.running and not (moving and moving.running):
        response = show(job_id, sheet)
        response.headers["HX-Retarget"] = "#stop"
        response.headers["HX-Reswap"] = "outerMorph"
        return response
    context = {"job": live.job, "live": live, "rig": live.job.rig, "sheet": sheet}
    if sheet == "meter":
        context |= {"meter": live_views.meter(live)}
    elif sheet == "spectrum":
        context |= {"moving": moving, "spectrum": live_views.spectrum(live, services().live.compared_take(job_id))}
    elif sheet == "reference":
        context |= {"ref": services().reference.view(job_id), "change_words": change_words}
    elif sheet == "subs":
        context |= {"subs": services().sub_matching.view(job_id), "change_words": change_words}
    else:
        context |= {"ramp_words": ramp_words}
    return make_response(render_template(f"rig/_live_{sheet}.html", **context))


@blueprint.post("/live/<sheet>/start")
def start_live(job_id: int, sheet: str) -> Response:
    """Begin to listen, and to play if a source is chosen."""
    changes: dict[str, Any] = {"automatic": bool(request.form.get("automatic"))}
    if request.form.get("channel"):
        changes["channel"] = request.form["channel"]
    services().live.start(job_id, _purpose(sheet), **changes)
    return after(job_id, sheet)


@blueprint.post("/live/<sheet>/channel/<channel>")
def live_channel(job_id: int, sheet: str, channel: str) -> Response:
    """Play this channel: begin, or go over to it."""
    live = services().live
    if live.view(job_id, _purpose(sheet)).running:
        live.change(job_id, _purpose(sheet), channel=channel, automatic=False)
    else:
        live.start(job_id, _purpose(sheet), channel=channel, automatic=False)
    return after(job_id, sheet)


@blueprint.post("/live/<sheet>/stop")
def stop_live(job_id: int, sheet: str) -> Response:
    """Silence; the figures stay."""
    services().sound.stop()
    return after(job_id, sheet)


@blueprint.post("/live/<sheet>/reset")
def reset_live(job_id: int, sheet: str) -> Response:
    """Forget highest values and averages."""
    services().live.reset(job_id, _purpose(sheet))
    return after(job_id, sheet)


@blueprint.post("/live/<sheet>/source")
@on_sheet()
def live_source(job_id: int, sheet: str) -> Response:
    """What plays, where, and how loud."""
    form = FormReader(request.form)
    kind = form.choice("kind", tuple(KINDS))
    values: dict[str, Any] = {
        "level_dbfs": form.of(Source, "level_dbfs"),
        "frequency_hz": form.of(Source, "frequency_hz", default=1000.0),
        "band_hz": (
            form.number("band_from_hz", low=10, high=20_000, unit="Hz", default=500.0),
            form.number("band_to_hz", low=10, high=22_000, unit="Hz", default=2000.0),
        ),
    }
    channel = form.text("channel")
    form.done()
    with form.blaming(_SOURCE_FIELDS, "level_dbfs"):
        source = Source(kind=kind, **values)
    rig = services().jobs.get(job_id).rig
    peak = source.peak_dbfs(rig.sample_rate_hz)
    if channel and peak > rig.levels.ceiling_dbfs:
        return show(
            job_id,
            sheet,
            status=422,
            typed=request.form,
            faults={
                "level_dbfs": (
                    f"Its peaks reach {peak:.1f} dBFS, above the ceiling of {rig.levels.ceiling_dbfs:g} dBFS. "
                    f"Choose {source.level_dbfs - peak + rig.levels.ceiling_dbfs:.1f} dBFS or less."
                )
            },
        )
    services().live.change(job_id, _purpose(sheet), source=source, channel=channel)
    return after(job_id, sheet)


@blueprint.post("/live/level/use")
def use_ramp(job_id: int) -> Response:
    """End the ramp here and use its level."""
    services().live.use_level(job_id)
    return after(job_id, "level")


@blueprint.get("/live/<sheet>/source.wav")
def source_file(job_id: int, sheet: str) -> Response:
    """The source for any player."""
    data, name = services().live.source_file(job_id, _purpose(sheet))
    return download(data, name, "audio/wav")


@blueprint.post("/live/<sheet>/louder/<step>")
def louder(job_id: int, sheet: str, step: str) -> Response:
    """The source louder or softer by some dB, never above the ceiling."""
    form = FormReader({"step": step})
    change = form.number("step", low=-10, high=10)
    form.done()
    services().live.louder(job_id, _purpose(sheet), change)
    return after(job_id, sheet)


@blueprint.post("/live/meter/look")
def look_of_meter(job_id: int) -> Response:
    """What the meter shows large, and over which time it takes the mean."""
    form = FormReader(request.form)
    services().live.change(
        job_id,
        "meter",
        weighting=form.choice("weighting", ("A", "C", "Z")),
        time=form.choice("time", ("fast", "slow")),
        meaning_time_s=form.number("mean", low=1, high=3600, default=10.0),
    )
    return after(job_id, "meter")


@blueprint.post("/live/spectrum/look")
def look_of_spectrum(job_id: int) -> Response:
    """Bands, average, what to compare with."""
    form = FormReader(request.form)
    services().live.change(
        job_id,
        "spectrum",
        average=form.choice("average", tuple(AVERAGES_S)),
        per_octave=int(form.choice("per_octave", tuple(map(str, PER_OCTAVE)))),
        compared=int(form.number("compared", low=0, high=10**9, default=0.0)),
    )
    return after(job_id, "spectrum")


@blueprint.post("/live/spectrum/scale/<int:up>")
def scale_of_spectrum(job_id: int, up: int) -> Response:
    """The scale 10 dB up or down."""
    services().live.move_scale(job_id, 10.0 if up else -10.0)
    return after(job_id, "spectrum")


@blueprint.get("/live/spectrum/bands.csv")
def spectrum_file(job_id: int) -> Response:
    """What the spectrum shows, as CSV."""
    data, name = services().live.bands_file(job_id)
    return download(data, name, "text/csv")


@blueprint.post("/live/spectrum/hold")
def hold_spectrum(job_id: int) -> Response:
    """Hold the curve beside the live one."""
    services().live.hold(job_id)
    return after(job_id, "spectrum")


@blueprint.post("/live/spectrum/release")
def release_spectrum(job_id: int) -> Response:
    """Let it go."""
    services().live.release(job_id)
    return after(job_id, "spectrum")


@blueprint.post("/live/spectrum/moving")
def moving_average(job_id: int) -> Response:
    """20 s of a moving microphone, kept as a take."""
    form = FormReader(request.form)
    channel, spot = form.text("channel"), form.whole("spot", low=1, high=10**6)
    form.done()
    options = services().live.options(job_id, "spectrum")
    level = options.source.level_dbfs
    services().live.start(job_id, "moving", channel=channel, spot=spot, source=Source(kind="pink", level_dbfs=level))
    return after(job_id, "spectrum")


@blueprint.post("/live/<sheet>/keep")
def keep_reading(job_id: int, sheet: str) -> Response:
    """Keep the reading of the channel that plays."""
    services().live.keep_reading(job_id, _kept_purpose(sheet))
    return after(job_id, sheet)


@blueprint.post("/live/<sheet>/forget")
def forget_readings(job_id: int, sheet: str) -> Response:
    """Begin the readings anew."""
    services().live.forget_readings(job_id, _kept_purpose(sheet))
    return after(job_id, sheet)


@blueprint.post("/turn/<sheet>/<knob>/<step>")
def turn(job_id: int, sheet: str, knob: str, step: str) -> Response:
    """Rehearsal: turn a gain or the volume control."""
    form = FormReader({"step": step})
    change = form.number("step", low=-40, high=40)
    form.done()
    services().rigging.turn(job_id, knob, change)
    services().live.refresh(job_id)
    return after(job_id, sheet)


@blueprint.post("/working-levels")
@on_sheet("reference")
def working_levels(job_id: int) -> Response:
    """The reference level and a second one."""
    form = FormReader(request.form, kept=services().jobs.get(job_id).rig.levels)
    values: dict[str, Any] = {
        "reference_db": form.of(Levels, "reference_db"),
        "second_db": form.of(Levels, "second_db") if form.filled("second_db") else None,
        "plays_effects": form.flag("plays_effects"),
    }
    form.done()
    services().rigging.set_rig(job_id, **values)
    services().live.refresh(job_id)
    return after(job_id, "reference")


@blueprint.post("/sub-match")
@on_sheet("subs")
def sub_match(job_id: int) -> Response:
    """How subs are compared."""
    job = services().jobs.get(job_id)
    present = job.rig.sub_match
    form = FormReader(request.form, kept=present)
    placing = form.choice("placing", tuple(PLACINGS))
    values: dict[str, Any] = {
        "placing": placing,
        "sound": form.choice("sound", ("tone", "noise")),
        "tone_hz": form.of(SubMatch, "tone_hz", default=present.tone_hz),
        "tuning_hz": form.of(SubMatch, "tuning_hz") if form.filled("tuning_hz") else None,
        "step_db": form.of(SubMatch, "step_db"),
        "level_dbfs": form.of(SubMatch, "level_dbfs"),
        "distance_m": form.length_of(SubMatch, "distance_m", typed="distance", units=job.units, now=present.distance_m),
    }
    form.done()
    with form.blaming(_MATCH_FIELDS, "tone_hz"):
        match = SubMatch(**values)
    services().sub_matching.set_match(job_id, match)
    return after(job_id, "subs")
