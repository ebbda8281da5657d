"""Before, predicted and after as one plot."""

from dolce.services.proving import ChannelProof
from dolce.web.shared.plot_data import curve, response_plot

TOP_DB = 15.0


def proof_plot(proof: ChannelProof) -> dict:
    """The same scale as on the Shape page, so that both can be compared."""
    return response_plot(curves=[
        curve("before", proof.channel, "before", proof.before_db),
        curve("target", proof.channel, "target", proof.target_db),
        # The prediction lies as a broad dashed band under the measured line: where they agree, both are seen.
        curve("predicted", proof.channel, "predicted", proof.predicted_db),
        curve("after", proof.channel, "after", proof.after_db),
    ], top_db=TOP_DB, unit="dB")
