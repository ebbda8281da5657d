"""Curves of one channel on paper: the plots of the pages, drawn small."""

from dolce.core.tuning import ChannelShape
from dolce.core.tuning.channel_proof import ChannelProof
from dolce.core.tuning.seats_proof import SEATS_HZ
from dolce.web.shared.plot_data import TO_CORRECT_DB, curve, response_plot, seats_plot
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


def seats_on_paper(proof: ChannelProof) -> tuple[StillPlot, StillPlot] | None:
    """The bass of every seat before, and after, on one scale; None for one seat alone."""
    seats = proof.seats
    if seats is None:
        return None
    before, after = (
        still(
            {**seats_plot(SEATS_HZ, seats.seats, levels, None, before=""), "yRange": [-25.0, 15.0]},
            width=340.0,
            height=120.0,
            left=30.0,
            right=8.0,
            bottom=14.0,
            at_levels=(10, 0, -10, -20),
            sign=True,
        )
        for levels in (seats.before_db, seats.after_db)
    )
    return before, after


def _small(plot: dict) -> StillPlot:
    return still(
        plot, width=340.0, height=120.0, left=30.0, right=8.0, bottom=14.0, at_levels=(10, 0, -10, -20), sign=True
    )
