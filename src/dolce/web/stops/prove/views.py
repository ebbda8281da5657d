"""Before, predicted and after as one plot, and the verdict in words."""

from dolce.core.tuning import Verdict
from dolce.services.prove.proving import ChannelProof, ProofView
from dolce.web.shared.plot_data import curve, response_plot

TOP_DB = 15.0


def proof_plot(shown: ChannelProof) -> dict:
    """The same scale as on the Shape page, so that both can be compared."""
    return response_plot(curves=[
        curve("before", shown.channel, "before", shown.proof.before_db),
        curve("target", shown.channel, "target", shown.target_db),
        # The prediction lies as a broad dashed band under the measured line: where they agree, both are seen.
        curve("predicted", shown.channel, "predicted", shown.proof.predicted_db),
        curve("after", shown.channel, "after", shown.proof.after_db),
    ], top_db=TOP_DB, unit="dB")


def verdict_words(view: ProofView) -> str:
    """One or two plain sentences; what speaks against it comes first."""
    said = [_words(one) for one in view.against]
    if not said:
        said.append("The correction does what was predicted, and every channel is closer to the target.")
    if view.spots < view.spots_wanted:
        said.append(f"Compared at the {view.spots} of {view.spots_wanted} spots that both rounds have.")
    return " ".join(said)


def _words(one: Verdict) -> str:
    first, *others = one.channels
    match one.kind:
        case "prediction missed":
            return (f"{first} measures {one.value:.1f} dB away from its prediction, more than the "
                    f"{one.within:.1f} dB of a microphone put back by hand: was anything moved or switched in between?")
        case "no closer":
            return f"{first} is no closer to the target than before."
        case "levels differ":
            return (f"Levels still differ by {one.value:.1f} dB: {first} is loudest, {others[0]} softest; "
                    f"{one.within:.1f} dB is what placing the microphone explains.")
        case _:
            return (f"Arrivals still differ by {one.value * 1000:.2f} ms: {first} is last, {others[0]} first; "
                    f"{one.within * 1000:.2f} ms is what placing the microphone explains.")
