"""Curves of the Read stop as plots."""

import numpy as np

from dolce.core.alignment import mid_level_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import channel_name
from dolce.services.read.reading import ReadView
from dolce.services.read.round_curves import ChannelCurves
from dolce.web.shared.plot_data import curve, response_plot, ribbon, shown, top_above


def read_plot(view: ReadView) -> dict | None:
    """The plot of what was chosen; None where nothing is taken."""
    if not view.curves:
        return None
    if view.wish.view == "impulse":
        return _impulse_plot(view)
    if view.wish.view == "phase":
        curves = [{"label": _at_spot(view, c.channel, c), "channel": c.channel, "state": "after",
                   "y": shown(view.phases[c.channel]), "note": ""} for c in view.curves]
        plot = response_plot(curves=curves, top_db=0, unit="°")
        return {**plot, "yRange": [-180, 180], "breaks": 180}
    spl = view.job.rig.levels.response_spl_db                  # None while sound pressure is not known
    shift = spl or 0.0
    curves, ribbons = [], []
    for c in view.curves:
        name = channel_name(c.channel)
        if len(c.takes) > 1:
            if len(view.curves) == 1:                # two channels with all their spots would hide each other
                curves += [curve(view.job.at_spot(t.spot_id), c.channel, "spot", level + shift)
                           for t, level in zip(c.takes, c.level_db, strict=True)]
            ribbons.append(ribbon(c.channel, c.average.lowest_db + shift, c.average.highest_db + shift))
            curves.append(curve(f"{name}, average of {len(c.takes)}", c.channel, "after", c.average.level_db + shift))
        else:
            curves.append(curve(_at_spot(view, name, c), c.channel, "after", c.level_db[0] + shift))
    middle = float(np.mean([mid_level_db(ANALYSIS_GRID_HZ, c.average.level_db) for c in view.curves]))
    plot = response_plot(curves=curves, ribbons=ribbons, top_db=top_above(middle + shift), unit="dB")
    return plot if spl is None else {**plot, "unit": "dB SPL"}


def _at_spot(view: ReadView, name: str, curves: ChannelCurves) -> str:
    """A channel at the one spot that is looked at."""
    return f"{name} at {view.job.at_spot(curves.takes[0].spot_id)}"


def _impulse_plot(view: ReadView) -> dict:
    peak = max(float(np.max(np.abs(sample))) for _, sample in view.impulses.values())
    curves = [{"label": _at_spot(view, channel, c), "channel": channel, "state": "after",
               "x": np.round(view.impulses[channel][0] * 1000, 4).tolist(),
               "y": np.round(100 * view.impulses[channel][1] / peak, 3).tolist(), "note": ""}
              for c in view.curves for channel in (c.channel,)]
    return {"kind": "impulse", "xRange": [-2.0, 20.0], "yRange": [-110, 110], "unit": "%", "curves": curves}
