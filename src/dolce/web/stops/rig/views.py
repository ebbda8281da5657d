"""The microphones' curves as a plot, and the room's noise as bars."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import power_db
from dolce.core.job import Rig
from dolce.core.response import ANALYSIS_GRID_HZ, MicrophoneCurve
from dolce.core.rig import NOISE_THIRD_OCTAVES_HZ
from dolce.services.rig.sound_pressure import PressureView
from dolce.web.shared.plot_data import curve, range_around, response_plot

_MIC_COLOURS = ("mic", "L", "R", "Ls", "Rs", "C")


def curve_plot(rig: Rig) -> dict | None:
    """What is taken out for each microphone in use, and the curves that are not, over frequency; None without any."""

    def level(of: MicrophoneCurve) -> NDArray:
        return power_db(abs(of.on(ANALYSIS_GRID_HZ)) ** 2)

    curves = []
    for number, microphone in enumerate(rig.microphones):
        out = microphone.taken_out(rig.pointing)
        _, angle = microphone.curve(rig.pointing)
        if out is not None:
            label = (
                f"{microphone.microphone.name}, {angle}°"
                if angle is not None
                else f"{microphone.microphone.name}, difference"
            )
            curves.append(curve(label, _MIC_COLOURS[number % len(_MIC_COLOURS)], "after", level(out)))
        curves += [
            curve(f"{other}°, not applied", _MIC_COLOURS[number % len(_MIC_COLOURS)], "predicted", level(c))
            for other, c in microphone.microphone.curves.items()
            if other != angle and len(rig.microphones) == 1
        ]
    if not curves:
        return None
    shown = range_around(np.concatenate([c["y"] for c in curves]), least_db=10.0)
    return response_plot(curves=curves, range_db=shown, unit="dB")


@dataclass(frozen=True, slots=True, kw_only=True)
class NoiseBar:
    """One third of an octave."""

    x: float
    y: float
    height: float
    label: str
    doubtful: bool


def noise_bars(view: PressureView) -> tuple[list[NoiseBar], list[tuple[float, str]]]:
    """Bars over 70 dB, and the marks of the scale; in dB SPL where it is known."""
    if view.noise is None:
        return [], []
    levels = view.noise.third_octave_dbfs + (view.job.rig.levels.full_scale_spl_db or 0.0)
    top = max(10 * -(-float(levels.max()) // 10), -60.0 if not view.job.rig.levels.full_scale_spl_db else 20.0)
    bottom = top - 70

    def y(level: float) -> float:
        return round(8 + (top - max(level, bottom)) / 70 * 216, 1)

    bars = [
        NoiseBar(
            x=36 + 22.2 * k,
            y=y(level),
            height=round(224 - y(level), 1),
            doubtful=f in view.noise.doubtful_hz,
            label="" if k % 3 != 1 else f"{f / 1000:g}k" if f >= 1000 else f"{f:g}",
        )
        for k, (f, level) in enumerate(zip(NOISE_THIRD_OCTAVES_HZ, levels, strict=True))
    ]
    return bars, [(y(top - step), f"{top - step:.0f}".replace("-", "−")) for step in range(0, 71, 10)]
