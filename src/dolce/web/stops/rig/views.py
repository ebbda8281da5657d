"""The microphone's curve as a plot."""

from dolce.core.levels import power_db
from dolce.core.response import ANALYSIS_GRID_HZ, MicrophoneCurve
from dolce.web.shared.plot_data import curve, response_plot


def curve_plot(microphone: MicrophoneCurve | None) -> dict | None:
    """Level of the microphone over frequency, or None."""
    if microphone is None:
        return None
    level = power_db(abs(microphone.on(ANALYSIS_GRID_HZ)) ** 2)
    plot = response_plot(curves=[curve("microphone", "mic", "after", level)], top_db=10.0, unit="dB")
    return {**plot, "yRange": [-20.0, 10.0]}
