"""Plots of single takes on Read: phase, delay, time, decay, distortion, noise."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db
from dolce.core.job import name_of
from dolce.core.reading import HARMONICS, DecayKind, DecayMap, Distortion, NoiseUnder, PhaseCurves, TimeCurve
from dolce.services.read.reading import ReadView, TakeDetail
from dolce.services.read.take_details import SLICE_S, DecayTimes, GroupDelays, Levels, detail_as
from dolce.web.shared.plot_data import FROM_HZ, TO_HZ, fitting, frequency_plot, response_plot, shown
from dolce.web.stops.read.level_plots import pressure
from dolce.web.stops.read.picture import pictured

_MAP_LOWEST_DB = -50.0
_MOST_OF_DELAYS_PERCENT = (1, 99)
_MOST_POINTS = 1200  # over time: a plot has fewer across
MOST_FINE = 2  # curves of energy over time that can be told apart as they are; more are averaged over so many blocks
COARSE_BLOCKS = 4
_ORDINALS = {2: "2nd", 3: "3rd", 4: "4th", 5: "5th"}


def detail_plots(view: ReadView) -> tuple[tuple[str, dict], ...]:
    """The plots of a view of single takes, with their names; none where no take can show it.

    One for all, but for maps and slices: there each of the picture has its own.
    """
    there = [detail for detail in view.details if detail.found is not None]
    make = _MAKE[view.options.view]
    if view.options.view not in ("map", "slices"):
        return (("", make(view, there)),) if there else ()
    if len(there) == 1:
        return (("", make(view, there)),)
    return tuple((take_name(view, detail), make(view, [detail])) for detail in there)


def take_name(view: ReadView, detail: TakeDetail) -> str:
    """A take in words: what tells it from the others of the picture, or its channel and place."""
    beside = len(view.picture) > 1
    name = pictured(view)[detail.number].name if beside and detail.number is not None else name_of(detail.take.channel)
    if detail.count > 1:
        return f"{name}, average of {detail.count}"
    job = view.job if detail.chosen is None else detail.chosen.job
    at = job.at_spot(detail.take.spot_id)
    return name if at in name else f"{name}, {at}" if beside else f"{name} at {at}"


def _curve(view: ReadView, detail: TakeDetail, y: list, **more: object) -> dict:
    one = pictured(view)[detail.number] if detail.number is not None else None
    return {
        "label": take_name(view, detail),
        "channel": one.colour if one else detail.take.channel,
        "state": one.line if one else "after",
        "note": "",
        "y": y,
        **more,
    }


def _over_frequency(curves: list[dict], *, unit: str, y_range: tuple[float, float], **more: object) -> dict:
    return response_plot(curves=curves, range_db=y_range, unit=unit) | more


def _level(view: ReadView, there: list[TakeDetail]) -> dict:
    shift, unit = pressure(view)
    curves = [_curve(view, d, shown(detail_as(Levels, d.found).level_db + shift)) for d in there]
    return _over_frequency(curves, unit=unit, y_range=fitting([c["y"] for c in curves], None))


def _phase(view: ReadView, there: list[TakeDetail]) -> dict:
    kind = view.options.phase

    def of(found: PhaseCurves) -> NDArray:
        return {
            "wrapped": found.wrapped_deg,
            "unwrapped": found.unwrapped_deg,
            "minimum": found.minimum_deg,
            "excess": found.excess_deg,
        }[kind]

    curves = [_curve(view, d, shown(of(detail_as(PhaseCurves, d.found)), digits=1)) for d in there]
    if kind == "wrapped":
        return _over_frequency(curves, unit="°", y_range=(-180, 180), breaks=180)
    return _over_frequency(
        curves, unit="°", y_range=fitting([c["y"] for c in curves], None, step=180, least=360, deepest=np.inf)
    )


def _delay(view: ReadView, there: list[TakeDetail]) -> dict:
    curves = []
    for detail in there:
        found = detail_as(GroupDelays, detail.found)
        whole, excess = (
            shown(np.clip(1000 * values, -50, 400), digits=2) for values in (found.delay_s, found.excess_s)
        )
        curves.append(_curve(view, detail, excess) | {"label": f"{take_name(view, detail)}, excess"})
        curves.append(
            _curve(view, detail, whole)
            | {"label": f"{take_name(view, detail)}, group delay", "state": "faint", "quiet": len(there) > 2}
        )
    values = np.array([v for c in curves for v in c["y"] if v is not None] or [0.0])
    # Zero and most of what there is; at a deep dip the delay runs to hundreds of milliseconds.
    most = [[0.0, *np.percentile(values, _MOST_OF_DELAYS_PERCENT)]]
    return _over_frequency(curves, unit="ms", y_range=fitting(most, None, step=5, least=20, deepest=np.inf))


def _over_time(view: ReadView, there: list[TakeDetail], *, unit: str, y_range: tuple[float, float] | None) -> dict:
    def curve(detail: TakeDetail, found: TimeCurve) -> dict:
        scale, every = 100 if unit == "%" else 1, max(1, found.value.size // _MOST_POINTS)
        return _curve(
            view,
            detail,
            np.round(scale * found.value[::every], 1).tolist(),
            x=np.round(found.time_s[::every] * 1000, 3).tolist(),
        )

    curves = [curve(d, detail_as(TimeCurve, d.found)) for d in there]
    ends = [curve["x"][k] for curve in curves for k in (0, -1)]
    return {
        "kind": "impulse",
        "xRange": [min(ends), max(ends)],
        "unit": unit,
        "curves": curves,
        "yRange": list(y_range or fitting([c["y"] for c in curves], None, step=10)),
    }


def _impulse(view: ReadView, there: list[TakeDetail]) -> dict:
    return _over_time(view, there, unit="%", y_range=(-110, 110))


def _energy(view: ReadView, there: list[TakeDetail]) -> dict:
    plot = _over_time(view, there, unit="dB", y_range=(-80, 5))
    if len(there) > MOST_FINE:
        for curve in plot["curves"]:
            count = len(curve["y"]) // COARSE_BLOCKS
            blocks = np.array(curve["y"][: count * COARSE_BLOCKS]).reshape(count, COARSE_BLOCKS)
            curve["y"] = np.round(energy_mean_db(blocks, axis=1), 1).tolist()
            curve["x"] = curve["x"][COARSE_BLOCKS // 2 : count * COARSE_BLOCKS : COARSE_BLOCKS]
    return plot


def _slices(view: ReadView, there: list[TakeDetail]) -> dict:
    found = detail_as(DecayMap, there[0].found)
    x = np.round(found.frequency_hz, 1).tolist()
    curves = [
        {
            "label": f"{1000 * at:.0f} ms",
            "channel": there[0].take.channel,
            "x": x,
            "note": "",
            "state": f"slice slice-{k}",
            "y": np.round(level, 1).tolist(),
        }
        for k, (at, level) in enumerate(zip(SLICE_S, found.level_db, strict=True))
    ]
    return frequency_plot(x, curves, x_range=(x[0], x[-1]), y_range=(-60, 5))


def _map(view: ReadView, there: list[TakeDetail]) -> dict:
    found = detail_as(DecayMap, there[0].found)
    level = np.clip(np.rint(found.level_db), _MAP_LOWEST_DB, 0).astype(int)
    return {
        "kind": "map",
        "channel": there[0].take.channel,
        "label": take_name(view, there[0]),
        "x": np.round(found.frequency_hz, 1).tolist(),
        "t": np.round(1000 * found.time_s, 1).tolist(),
        "lowest": _MAP_LOWEST_DB,
        "level": level.tolist(),
    }


def _times(view: ReadView, there: list[TakeDetail]) -> dict:
    curves = []
    for detail in there:
        bands = detail_as(DecayTimes, detail.found).bands
        x = [band.nominal_hz for band in bands]
        kind: DecayKind
        for kind, state in (("T30", "after"), ("T20", "before"), ("EDT", "target")):
            if len(there) > 1 and kind != "T20":
                continue  # several takes: the one that most of them can tell
            times = [band[kind] for band in bands]
            y = [None if t.seconds is None else round(t.seconds, 3) for t in times]
            curves.append(
                _curve(view, detail, y, x=x, points=True, hollow=[bool(t.why_not) for t in times])
                | {"label": f"{take_name(view, detail)}, {kind}"}
                | ({"state": state} if len(there) == 1 else {})
            )
    values = [v for c in curves for v in c["y"] if v is not None]
    top = float(np.ceil(max(values, default=1.0) * 5 + 0.5) / 5)
    return frequency_plot(curves[0]["x"], curves, x_range=(FROM_HZ, 12_500), y_range=(0, top), unit="s")


def _distortion(view: ReadView, there: list[TakeDetail]) -> dict:
    def y(values: NDArray) -> list:
        return [round(float(v), 1) if np.isfinite(v) else None for v in values]

    curves = []
    for detail in there:
        found = detail_as(Distortion, detail.found)
        x, channel = np.round(found.frequency_hz, 1).tolist(), detail.take.channel
        curves.append(_curve(view, detail, y(found.total_db), x=x) | {"label": f"{take_name(view, detail)}, total"})
        if len(there) > 1:
            continue
        curves += [
            {
                "label": f"{_ORDINALS[n]} harmonic",
                "channel": channel,
                "state": f"harmonic harmonic-{n}",
                "x": x,
                "y": y(found.harmonic_db[n]),
                "note": "",
            }
            for n in HARMONICS
        ]
        curves.append(
            {"label": "noise", "channel": channel, "state": "target", "x": x, "y": y(found.noise_db), "note": ""}
        )
    return frequency_plot(
        curves[0]["x"], curves, x_range=(FROM_HZ, 10_000), y_range=fitting([c["y"] for c in curves], None, step=10)
    )


def _noise(view: ReadView, there: list[TakeDetail]) -> dict:
    curves, (shift, unit) = [], pressure(view)
    for detail in there:
        found = detail_as(NoiseUnder, detail.found)
        for what, values in (("level", found.level_db), ("noise", found.noise_db)):
            curves.append(
                _curve(view, detail, np.round(values + shift, 1).tolist(), x=list(found.nominal_hz))
                | {"label": f"{take_name(view, detail)}, {what}"}
                | ({"state": "noise", "quiet": len(there) > 2} if what == "noise" else {})
            )
    return frequency_plot(
        curves[0]["x"],
        curves,
        x_range=(FROM_HZ, TO_HZ),
        unit=unit,
        y_range=fitting([c["y"] for c in curves], None, step=10),
    )


_MAKE: dict[str, Callable[[ReadView, list[TakeDetail]], dict]] = {
    "level": _level,
    "phase": _phase,
    "delay": _delay,
    "impulse": _impulse,
    "step": _impulse,
    "energy": _energy,
    "slices": _slices,
    "map": _map,
    "times": _times,
    "distortion": _distortion,
    "noise": _noise,
}
