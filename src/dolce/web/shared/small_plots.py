"""A channel's curves as a small drawing, to be seen beside those of all others."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.tuning import ChannelShape
from dolce.core.tuning.channel_proof import ChannelProof
from dolce.web.shared.plot_data import TO_CORRECT_DB, curve, response_plot
from dolce.web.shared.still_plot import StillPlot, still

_EVERY = slice(None, None, 5)  # points that are drawn
_OF_FILTERS = "filter-sum"


@dataclass(frozen=True, slots=True, kw_only=True)
class SmallPlot:
    """A channel's drawing, and its deviation before, as predicted and after, dB; None where there is none."""

    channel: str
    frame: StillPlot
    before_db: float
    predicted_db: float | None
    after_db: float | None = None


def small_proof(name: str, shown: ChannelProof, filters_db: NDArray[np.float64] | None) -> SmallPlot:
    """Target, before, predicted, after and filters of a proven channel."""
    proof = shown.proof
    curves = [
        ("before", proof.before_db),
        ("target", shown.target_db),
        ("predicted", proof.predicted_db),
        ("after", proof.after_db),
    ]
    return SmallPlot(
        channel=name,
        frame=_drawn(shown.channel, curves, filters_db),
        before_db=proof.outcome.before_range_db,
        predicted_db=proof.outcome.predicted_range_db,
        after_db=proof.outcome.after_range_db,
    )


def small_shape(shape: ChannelShape) -> SmallPlot:
    """Target, before, predicted and filters of a channel that is shaped."""
    curves = [("before", shape.before_db), ("target", shape.target_db)]
    if shape.is_corrected:
        curves.append(("predicted", shape.predicted_db))
    return SmallPlot(
        channel=shape.channel,
        frame=_drawn(shape.channel, curves, shape.correction_db if shape.is_corrected else None),
        before_db=shape.before_deviation_db,
        predicted_db=shape.predicted_deviation_db if shape.is_corrected else None,
    )


def _drawn(channel: str, curves: list[tuple[str, NDArray]], filters_db: NDArray | None) -> StillPlot:
    if filters_db is not None:
        curves = [(_OF_FILTERS, filters_db), *curves]
    plot = response_plot(
        curves=[curve(state, channel, state, level) for state, level in curves], range_db=TO_CORRECT_DB, unit="dB"
    )
    for one in plot["curves"]:
        one["x"], one["y"] = one.get("x", plot["x"])[_EVERY], one["y"][_EVERY]
    return still(plot, width=134.0, height=74.0, left=2.0, right=2.0, bottom=2.0, top=2.0, at_levels=(10, 0, -10, -20))
