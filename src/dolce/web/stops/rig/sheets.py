"""The sheets of the Rig stop: their names, and what each of them shows."""

from collections.abc import Callable

from flask import Blueprint, request
from werkzeug.wrappers import Response

from dolce.core.job import SAMPLE_RATES_HZ, needed_sheets
from dolce.core.levels import MEANING_TIMES_S, PER_OCTAVE
from dolce.core.processor import REHEARSAL_LIMITS
from dolce.core.rig import CHOICES_DB, FAULTS, PLACINGS, POINTINGS, SLATE, microphone_findings
from dolce.core.signals import KINDS
from dolce.services.rig.live_session import Purpose
from dolce.services.rig.live_sound import AVERAGES_S
from dolce.services.rig.processor_keeping import shown_settings
from dolce.web.shared.form_faults import showing_faults
from dolce.web.shared.page import after_change, services, show_stop
from dolce.web.stops.rig import live_views
from dolce.web.stops.rig.level_meter import LevelMeter
from dolce.web.stops.rig.views import curve_plot, noise_bars
from dolce.words.rig import bass_words, change_words, line_words, microphone_words, ramp_words

blueprint = Blueprint("rig", __name__, url_prefix="/jobs/<int:job_id>/rig", template_folder="templates")

GROUPS: dict[str, dict[str, str]] = {
    "Set up": {
        "setup": "Hardware",
        "microphones": "Microphones",
        "processor": "Processor",
        "level": "Level",
        "noise": "Noise and pressure",
    },
    "Check": {"lines": "Line check", "reference": "Reference level", "subs": "Subs together"},
    "Listen": {"meter": "Meter and sources", "spectrum": "Spectrum"},
    "Rehearse": {"faults": "Practise"},
}
SHEETS = {key: name for group in GROUPS.values() for key, name in group.items()}
# What is being measured on the sheets with live sound.
PURPOSE_OF: dict[str, Purpose] = {
    "meter": "meter",
    "spectrum": "spectrum",
    "reference": "reference",
    "subs": "subs",
    "level": "ramp",
}


def show(job_id: int, sheet: str | None = None, **context: object) -> Response:
    """A sheet: the one given, or the one that the request names."""
    wanted = sheet or request.values.get("sheet")
    sheet = wanted if wanted in SHEETS else "setup"
    if services().sound.running() is None:
        services().processor.looked_at(
            job_id
        )  # level and lines sound through what it holds: the header says what that is
    job = services().jobs.get(job_id)
    rig = job.rig
    base = {
        "rig": rig,
        "sheet": sheet,
        "groups": GROUPS,
        "needed": needed_sheets(simulated=rig.interface.simulated, processor_readable=rig.processor.can.readable),
        "faults": {},
        "typed": {},
        "check": services().sound.latest(job_id, "level"),
        "pointings": POINTINGS,
        "mic_findings": microphone_findings(rig.microphones, rig.pointing),
        "mic_words": microphone_words,
    }
    return show_stop("rig", job_id, **{**base, **_CONTEXTS[sheet](job_id), **context})


on_sheet = showing_faults(show)


def after(job_id: int, sheet: str) -> Response:
    """After a change on a sheet: that sheet again."""
    return after_change("rig", job_id, lambda number: show(number, sheet), sheet=sheet)


def _setup(job_id: int) -> dict:
    cards, why_none = services().rigging.cards()
    job = services().jobs.get(job_id)
    return {
        "cards": [c for c in cards if c.outputs],
        "no_cards": why_none,
        "rates": SAMPLE_RATES_HZ,
        "loop_pass": services().sound.latest(job_id, "loop"),
        "sync_channel": job.sync_channel,
        "sync_options": [(s.channel, s.title) for s in job.speakers if not s.is_sub],
        "card_options": [
            (f"{c.host}|{c.name}", f"{c.name} ({c.host}), {c.outputs} out, {c.inputs} in") for c in cards if c.outputs
        ],
        "recorder_options": [
            ("", "the same device"),
            *((f"{c.host}|{c.name}", f"{c.name} ({c.host}), {c.inputs} in") for c in cards if c.inputs),
        ],
    }


def _microphones(job_id: int) -> dict:
    view = services().microphones.view(job_id)
    return {"mics": view, "curve": curve_plot(view.job.rig)}


def _processor(job_id: int) -> dict:
    view = services().processor.view(job_id)
    return {
        "proc": view,
        "network": services().network.view(job_id),
        "slate": SLATE,
        "rehearsal_limits": REHEARSAL_LIMITS,
        "held": shown_settings(view.state, view.job.channels),
        "bass_words": bass_words,
        "main_channels": [s.channel for s in view.job.speakers if not s.is_sub],
        "subs": [s.channel for s in view.job.speakers if s.is_sub],
    }


def _level(job_id: int) -> dict:
    return {
        "live": services().live.view(job_id, "ramp"),
        "ramp_words": ramp_words,
        "readings": {c: LevelMeter.of(reading) for c, reading in services().rigging.level_readings(job_id).items()},
        "moved_on": services().rigging.level_moved_on(job_id),
    }


def _noise(job_id: int) -> dict:
    pressure = services().pressure.view(job_id)
    bars, ticks = noise_bars(pressure)
    return {"pressure": pressure, "noise_bars": bars, "noise_ticks": ticks}


def _lines(job_id: int) -> dict:
    return {"lines": services().lines.view(job_id), "line_words": line_words}


def _reference(job_id: int) -> dict:
    view = services().reference.view(job_id)
    return {"ref": view, "live": view.live, "choices": CHOICES_DB, "change_words": change_words}


def _subs(job_id: int) -> dict:
    view = services().sub_matching.view(job_id)
    return {"subs": view, "live": view.live, "placings": PLACINGS, "change_words": change_words}


def _meter(job_id: int) -> dict:
    live = services().live.view(job_id, "meter")
    return {
        "live": live,
        "kinds": KINDS,
        "meter": live_views.meter(live),
        "means": MEANING_TIMES_S,
        "stated": live_views.stated(live),
    }


def _spectrum(job_id: int) -> dict:
    service = services().live
    live = service.view(job_id, "spectrum")
    return {
        "live": live,
        "moving": service.view(job_id, "moving"),
        "kinds": KINDS,
        "averages": AVERAGES_S,
        "per_octaves": PER_OCTAVE,
        "stated": live_views.stated(live),
        "kept_takes": service.moving_takes(job_id),
        "spectrum": live_views.spectrum(live, service.compared_take(job_id)),
    }


def _faults(_job_id: int) -> dict:
    return {"faults_known": FAULTS}


_CONTEXTS: dict[str, Callable[[int], dict]] = {
    "setup": _setup,
    "microphones": _microphones,
    "processor": _processor,
    "level": _level,
    "noise": _noise,
    "lines": _lines,
    "reference": _reference,
    "subs": _subs,
    "meter": _meter,
    "spectrum": _spectrum,
    "faults": _faults,
}
