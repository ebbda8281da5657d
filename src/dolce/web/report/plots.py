"""Curves of one channel on paper: the plots of the pages, drawn small."""

from dolce.core.tuning import ChannelShape
from dolce.core.tuning.channel_proof import ChannelProof
from dolce.web.shared.plot_data import TO_CORRECT_DB, curve, response_plot
from dolce.web.shared.still_plot import StillPlot, still
from dolce.web.stops.prove.views import proof_plot


def found_on_paper(channel: str, shape: ChannelShape) -> StillPlot:
    """As it was found, and its target."""
    return _small(
        response_plot(
            curves=[
                curve("target", channel, "target", shape.target_db),
                curve("before", channel, "before", shape.before_db),
            ],
            range_db=TO_CORRECT_DB,
            unit="dB",
        )
    )


def proof_on_paper(proof: ChannelProof) -> StillPlot:
    """The plot of Prove."""
    return _small(proof_plot(proof))


def _small(plot: dict) -> StillPlot:
    return still(
        plot, width=340.0, height=120.0, left=30.0, right=8.0, bottom=14.0, at_levels=(10, 0, -10, -20), sign=True
    )
