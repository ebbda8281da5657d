"""Routes of target, preference, limits and means."""

from collections.abc import Callable
from dataclasses import asdict, replace
from typing import Any

from flask import render_template, request
from werkzeug.wrappers import Response

from dolce.core.checked import limited_fields
from dolce.core.correction import METHODS, PHASES, Curve, FilterType, FixedBands, Limits, Preference, Target
from dolce.core.tuning import ANCHOR_RANGE_HZ, Correction, CorrectionSettings
from dolce.core.tuning.correction import ANCHORS, Anchor
from dolce.errors import Conflict, FormatError, InvalidValue
from dolce.services.shape.scopes import Scope
from dolce.services.shape.targets import BASES
from dolce.web.shared.form_reader import FormReader, uploaded
from dolce.web.shared.numbers import number_of, whole_of
from dolce.web.shared.page import services
from dolce.web.stops.shape.sheets import blueprint, edited, on_sheet, show

# Which field a fault of the core is about.
_FIELDS = {
    "bass lift": "bass_lift_db",
    "bass lift below": "bass_cutoff_hz",
    "tilt": "tilt_db_per_octave",
    "treble": "treble_db",
    "treble above": "treble_cutoff_hz",
    "tilt from": "tilt_from_hz",
    "range from": "from_hz",
    "range to": "to_hz",
    "largest boost": "max_boost_db",
    "largest cut": "max_cut_db",
    "Q from": "min_q",
    "Q to": "max_q",
    "bands": "bands",
    "level from": "anchor_from_hz",
    "level to": "anchor_to_hz",
    "level": "anchor_level_db",
    "centres of the fixed bands": "centres",
    "points": "points",
    "points of the target": "points",
    "like": "like",
    "method": "method",
    "length": "duration_ms",
}
_PREFERENCE = {
    "tilt_db_per_octave": "preference_tilt",
    "bass_db": "preference_bass",
    "presence_db": "preference_presence",
    "treble_db": "preference_treble",
}


@blueprint.post("/aim")
@on_sheet()
def correction_settings(job_id: int) -> Response:
    """Target, preference, limits, means, link; then look for filters if asked."""
    shaping = services().shaping
    correction = shaping.correction(job_id)
    channel = request.form.get("channel", "")
    if request.form.get("propose"):
        low, high = services().ranges.proposed_hz(job_id, channel)
        return show(
            job_id, typed={**request.form.to_dict(), "from_hz": f"{low:g}", "to_hz": f"{high:g}"}, proposed=(low, high)
        )
    kept = correction.correction_settings(channel)
    form = FormReader(
        request.form,
        kept={
            **asdict(kept.target),
            **asdict(kept.limits),
            "anchor": correction.anchor,
            "anchor_level_db": correction.anchor_level_db,
            "anchor_from_hz": correction.anchor_band_hz[0],
            "anchor_to_hz": correction.anchor_band_hz[1],
            "method": kept.filter_type.method,
            "phase": kept.filter_type.phase,
            "duration_ms": kept.filter_type.duration_s * 1000,
            "before_ms": kept.filter_type.before_s * 1000,
        },
    )
    new, anchor, band, level = _read(form, kept)
    preference = _preference(form, correction.preference)
    scope: Scope = form.choice("scope", ("all", "group", "channel")) if "scope" in request.form else "all"
    form.done()
    try:
        new = replace(new, target=replace(new.target, curve=_curve(job_id, form, kept, channel)))
        Correction(target=new.target, anchor=anchor, anchor_band_hz=band, anchor_level_db=level)
    except (InvalidValue, FormatError, Conflict) as error:
        # A file of points names its line; whatever it is, it is about the points.
        form.faults[_FIELDS.get(error.where, "points" if error.where.startswith("points") else "to_hz")] = (
            f"{error.problem} {error.remedy}".strip()
        )
    form.done()
    with form.blaming(_FIELDS, "method"):
        shaping.set_correction(
            job_id,
            correction_settings=new,
            scope=scope,
            channel=channel,
            anchor=anchor,
            anchor_band_hz=band,
            anchor_level_db=level,
            linked=form.flag("linked"),
            preference=preference,
        )
    return edited(job_id, lambda: services().finding.begin_find(job_id) if request.form.get("find") else None)


def _read(form: FormReader, kept: CorrectionSettings) -> tuple[CorrectionSettings, Anchor, tuple[float, float], float]:
    target = {name: form.of(Target, name) for name in limited_fields(Target)}
    values: dict[str, Any] = {name: form.of(Limits, name) for name in limited_fields(Limits)}
    anchor = form.choice("anchor", ANCHORS)
    low, high = ANCHOR_RANGE_HZ
    band = (
        form.number("anchor_from_hz", low=low, high=high, unit="Hz"),
        form.number("anchor_to_hz", low=low, high=high, unit="Hz"),
    )
    level = form.of(Correction, "anchor_level_db")
    try:
        limits = Limits(**values, shelves=form.flag("shelves"))
    except InvalidValue as error:
        form.blame(error, _FIELDS, "to_hz")
        limits = kept.limits
    filter_type = FilterType(
        method=form.choice("method", METHODS),
        phase=form.choice("phase", PHASES),
        duration_s=form.of(FilterType, "duration_s", typed="duration_ms", per_unit=1000, unit="ms"),
        before_s=form.of(FilterType, "before_s", typed="before_ms", per_unit=1000, unit="ms"),
        fixed=_fixed(form, kept.filter_type.fixed),
    )
    return (
        CorrectionSettings(target=Target(**target, curve=kept.target.curve), limits=limits, filter_type=filter_type),
        anchor,
        band,
        level,
    )


def _fixed(form: FormReader, kept: FixedBands) -> FixedBands:
    centres = [number_of(cell) for cell in form.text("centres").replace(",", ".").split()]
    if any(centre is None for centre in centres):
        form.faults["centres"] = "Frequencies in Hz are needed, parted by blanks."
        return kept
    try:
        return FixedBands(
            centres_hz=tuple(c for c in centres if c is not None) or kept.centres_hz,
            q=form.of(FixedBands, "q", typed="fixed_q"),
            step_db=form.of(FixedBands, "step_db", typed="fixed_step_db"),
            lowest_db=kept.lowest_db,
            highest_db=kept.highest_db,
        )
    except InvalidValue as error:
        form.blame(error, _FIELDS, "centres")
        return kept


def _preference(form: FormReader, kept: Preference | None) -> Preference | None:
    values: dict[str, Any] = {
        name: form.of(Preference, name, typed=typed, default=0.0) for name, typed in _PREFERENCE.items()
    }
    name = form.text("preference_name")
    if len(name) > 60:
        form.faults["preference_name"] = "60 characters at most."
        return kept
    if not name and not any(values.values()):
        return None
    return Preference(name=name, on=form.flag("preference_on"), **values)


def _curve(job_id: int, form: FormReader, kept: CorrectionSettings, channel: str) -> Curve | None:
    base, like = request.form.get("base", "kept"), request.form.get("like", "")
    present = kept.target.curve
    same = base == _base(kept) and (base != "measured" or present is None or like == present.of)
    if base not in BASES or (same and base != "points"):
        return present
    return services().targets.curve(job_id, base, channel=channel, like=like, points=form.text("points"))


def _base(kept: CorrectionSettings) -> str:
    return "flat" if kept.target.curve is None else kept.target.curve.kind


@blueprint.post("/find")
def find(job_id: int) -> Response:
    """Look for filters toward the aim as it is kept."""
    return edited(job_id, lambda: services().finding.begin_find(job_id))


@blueprint.post("/<channel>/filters/<int:count>")
def use_count(job_id: int, channel: str, count: int) -> Response:
    """Find filters again with so many at most."""
    try:
        services().shaping.set_count(job_id, channel, count)
    except InvalidValue as error:
        return show(job_id, status=422, notice=f"{error.problem} {error.remedy}")
    return edited(job_id, lambda: services().finding.begin_find(job_id))


@blueprint.get("/before-find/<channel>")
def before_find(job_id: int, channel: str) -> str:
    """Ranges of all channels as proposed, and what the target's level costs for one."""
    return render_template(
        "shape/_before_find.html",
        job_id=job_id,
        channel=channel,
        ranges=services().ranges.proposed(job_id),
        levels=services().targets.levels(job_id, channel),
    )


@blueprint.post("/ranges")
def use_ranges(job_id: int) -> Response:
    """Correct every channel over the range that is proposed for it."""
    return edited(job_id, lambda: services().ranges.use_proposed(job_id))


@blueprint.post("/target/level")
def use_level(job_id: int) -> Response:
    """Let the target be at a level by hand."""
    level = number_of(request.args.get("level", ""))
    if level is None or not -120 <= level <= 60:
        return show(job_id, status=422, notice="A level of the target is -120 to 60 dB.")
    return edited(job_id, lambda: services().targets.use_level(job_id, level))


@blueprint.post("/target/file")
def target_from_file(job_id: int) -> Response:
    """A target from a text file."""
    channel = request.form.get("channel", "")
    try:
        services().targets.take_file(job_id, channel, *uploaded(request.files.get("file")))
    except (FormatError, InvalidValue) as error:
        return show(job_id, status=422, faults={"file": str(error)})
    return edited(job_id, lambda: None)


@blueprint.post("/target/keep")
def keep_target(job_id: int) -> Response:
    """Keep the target for other jobs."""
    correction = services().shaping.correction(job_id)
    target = correction.correction_settings(request.form.get("channel", "")).target
    try:
        services().targets.keep(request.form.get("name", ""), target, correction.preference)
    except InvalidValue as error:
        return show(job_id, status=422, faults={"target_name": f"{error.problem} {error.remedy}"})
    return edited(job_id, lambda: None)


@blueprint.post("/target/use")
def use_target(job_id: int) -> Response:
    """Take a kept target, or forget it."""
    number = int(number_of(request.form.get("target", "")) or 0)
    if request.form.get("forget"):
        return edited(job_id, lambda: services().targets.forget(number))
    return edited(job_id, lambda: services().targets.use(job_id, number))


@blueprint.post("/target/<channel>/point")
def set_point(job_id: int, channel: str) -> Response:
    """A point of a drawn target, set or moved."""
    at, level = number_of(request.form.get("frequency_hz", "")), number_of(request.form.get("level_db", ""))
    number = whole_of(request.form.get("number"))
    if at is None or level is None or not 10 <= at <= 22_000 or not -40 <= level <= 40:
        return show(job_id, status=422, notice="A point needs 10 to 22000 Hz and -40 to 40 dB.")
    return _pointed(job_id, lambda: services().targets.set_point(job_id, channel, at, level, instead_of=number))


@blueprint.post("/target/<channel>/point/<int:number>/remove")
def remove_point(job_id: int, channel: str, number: int) -> Response:
    """A point of a drawn target goes."""
    return _pointed(job_id, lambda: services().targets.remove_point(job_id, channel, number))


def _pointed(job_id: int, edit: Callable[[], None]) -> Response:
    try:
        return edited(job_id, edit)
    except InvalidValue as error:
        return show(job_id, status=422, notice=f"{error.problem} {error.remedy}")
