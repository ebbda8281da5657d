"""The microphone's curve as a plot, and the room's noise as bars."""

from dataclasses import dataclass

from dolce.core.levels import power_db
from dolce.core.response import ANALYSIS_GRID_HZ, MicrophoneCurve
from dolce.core.rig import NOISE_THIRDS_HZ
from dolce.services.sound_pressure import PressureView
from dolce.web.shared.plot_data import curve, response_plot


def curve_plot(microphone: MicrophoneCurve | None) -> dict | None:
    """Level of the microphone over frequency, or None."""
    if microphone is None:
        return None
    level = power_db(abs(microphone.on(ANALYSIS_GRID_HZ)) ** 2)
    plot = response_plot(curves=[curve("microphone", "mic", "after", level)], top_db=10.0, unit="dB")
    return {**plot, "yRange": [-20.0, 10.0]}


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
    levels = view.noise.thirds_dbfs + (view.job.rig.full_scale_spl_db or 0.0)
    top = max(10 * -(-float(levels.max()) // 10), -60.0 if not view.job.rig.full_scale_spl_db else 20.0)
    bottom = top - 70

    def y(level: float) -> float:
        return round(8 + (top - max(level, bottom)) / 70 * 216, 1)

    bars = [NoiseBar(x=36 + 22.2 * k, y=y(level), height=round(224 - y(level), 1), doubtful=f in view.noise.doubtful_hz,
                     label="" if k % 3 != 1 else f"{f / 1000:g}k" if f >= 1000 else f"{f:g}")
            for k, (f, level) in enumerate(zip(NOISE_THIRDS_HZ, levels, strict=True))]
    return bars, [(y(top - step), f"{top - step:.0f}".replace("-", "−")) for step in range(0, 71, 10)]
