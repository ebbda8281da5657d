"""Levels over frequency on Read: one plot or a small one for each channel, on one scale."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band
from dolce.core.job import bass_alone, name_of
from dolce.core.response import ANALYSIS_GRID_HZ, SUB_TOP_HZ
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.services.read.reading import ReadView
from dolce.web.shared.plot_data import FROM_HZ, TO_HZ, Scale, fitting, response_plot
from dolce.web.stops.read.picture import Pictured, pictured

_EVERY = {"front": 1, "faint": 3, "small": 5}  # points of the analysis grid that are drawn


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelPlots:
    """Plots by what they are called, the differences within the picture, and the scale that all share."""

    plots: tuple[tuple[str, dict], ...]
    difference: dict | None
    scale: Scale


def pressure(view: ReadView) -> tuple[float, str]:
    """What makes a level of the sweep's sound pressure of it, and the unit; nothing where pressure is not known."""
    shift = view.job.rig.levels.response_spl_db
    return (0.0, "dB") if shift is None else (shift, "dB SPL")


def level_plots(view: ReadView, kept: Scale | None) -> LevelPlots | None:
    """The plots of what was chosen; None where nothing is taken.

    The scale is one that cuts nothing off; `kept`, where it does so too.
    """
    if not view.curves:
        return None
    shift, unit = pressure(view) if view.options.levelled == "as measured" else (0.0, "dB")
    each = view.options.layout == "each" and len(view.curves) > 1
    in_picture = pictured(view)
    if each:
        drawn = [(c.channel, _of_channel(view, in_picture, c, shift, kind="small")) for c in view.curves]
    else:
        drawn = [
            (
                "",
                [
                    part
                    for c in view.curves
                    for part in _of_channel(
                        view, in_picture, c, shift, kind="front" if c.channel == view.front else "faint"
                    )
                ],
            )
        ]
    marks = (
        []
        if each
        else [
            {"x": round(finding.frequency_hz, 1), "label": str(number)}
            for number, finding in enumerate(sorted(view.findings, key=lambda f: f.frequency_hz), 1)
        ]
    )
    scale = fitting([part["y"] for _, parts in drawn for part in parts], kept)
    plots = tuple(
        (
            name,
            response_plot(
                curves=[p for p in parts if "low" not in p],
                ribbons=[p for p in parts if "low" in p],
                range_db=scale,
                unit=unit,
                marks=marks,
            ),
        )
        for name, parts in drawn
    )
    return LevelPlots(plots=plots, difference=_difference(view), scale=scale)


def _of_channel(
    view: ReadView, in_picture: Sequence[Pictured], curves: ChannelCurves, shift: float, *, kind: str
) -> list[dict]:
    """Curves of a channel, those beside it and its ribbon where it stands in front or alone."""
    channel = curves.channel
    if kind == "faint":
        return [_curve(_label(view, curves), channel, "faint", view.chosen.level_db(channel) + shift, kind)]
    alone, parts = len(in_picture) == 1, []
    if len(curves.takes) > 1:
        offset = view.chosen.offsets_db[channel] + shift
        parts.append(_ribbon(channel, curves, offset, kind))
        if len(view.curves) == 1 and alone:
            parts += [
                _curve(view.job.at_spot(take.spot_id), channel, "spot", level + offset, "faint")
                for take, level in zip(curves.takes, curves.level_db, strict=True)
            ]
    for one, beside in zip(in_picture[1:], view.beside, strict=True):
        other = beside.asked.channel or channel
        if beside.chosen is not None and other in beside.chosen.curves:
            parts.append(
                _curve(one.name, other, one.line, beside.chosen.level_db(other) + shift, kind) | {"channel": one.colour}
            )
    label = _label(view, curves) if alone else in_picture[0].name
    parts.append(_curve(label, channel, "after", view.chosen.level_db(channel) + shift, kind))
    return parts


def _label(view: ReadView, curves: ChannelCurves) -> str:
    spots = f"average of {len(curves.takes)}" if len(curves.takes) > 1 else view.job.at_spot(curves.takes[0].spot_id)
    return f"{name_of(curves.channel)}, {spots}"


def _drawn(channel: str, kind: str) -> NDArray:
    """Which points of the analysis grid are drawn of a channel."""
    # A sub's curve ends where it does: what lies above is noise and says nothing of it.
    top = SUB_TOP_HZ if bass_alone(channel) else TO_HZ * 1.015
    return np.flatnonzero(in_band(ANALYSIS_GRID_HZ, (FROM_HZ * 0.985, top)))[:: _EVERY[kind]]


def _curve(label: str, channel: str, state: str, values: NDArray, kind: str) -> dict:
    points = _drawn(channel, kind)
    return {
        "label": label,
        "channel": channel,
        "state": state,
        "note": "",
        "quiet": state == "faint" or kind == "small",
        **_x(channel, kind, points),
        "y": np.round(values[points], 1 if kind != "front" else 2).tolist(),
    }


def _ribbon(channel: str, curves: ChannelCurves, offset: float, kind: str) -> dict:
    points = _drawn(channel, kind)
    low, high = (
        np.round(v[points] + offset, 1).tolist() for v in (curves.average.lowest_db, curves.average.highest_db)
    )
    return {"channel": channel, **_x(channel, kind, points), "low": low, "high": high, "y": [*low, *high]}


def _x(channel: str, kind: str, points: NDArray) -> dict:
    """The frequencies of points, where they are not those of the plot itself."""
    if kind == "front" and not bass_alone(channel):
        return {}
    return {"x": np.round(ANALYSIS_GRID_HZ[points], 1).tolist()}


def _difference(view: ReadView) -> dict | None:
    """Every curve of the picture less the one that differences are taken to."""
    found = view.differences_db
    if not found:
        return None
    in_picture = pictured(view)
    channels = {number: channel for number, _, channel in view.picture}
    lines = [
        _curve(in_picture[number].name, channels[number], in_picture[number].line, values, "front")
        | {"channel": in_picture[number].colour}
        for number, values in found.items()
    ]
    scale = fitting([line["y"] for line in lines], None, least=20)
    most = max(-scale[0], scale[1])
    return response_plot(curves=lines, range_db=(-most, most), unit="dB")
