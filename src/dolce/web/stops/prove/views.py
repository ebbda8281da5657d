"""Before, predicted and after as one plot, and the verdict in words."""

from collections.abc import Sequence

from dolce.core.job import LogEntry, LogGroup, grouped
from dolce.core.tuning import Verdict
from dolce.core.tuning.channel_proof import ChannelProof
from dolce.services.prove.proving import ProofView
from dolce.services.prove.tolerating import ToleranceView
from dolce.web.shared.formatting import hertz
from dolce.web.shared.plot_data import curve, response_plot

TOP_DB = 15.0


def proof_plot(shown: ChannelProof, *, spots: bool = False) -> dict:
    """The same scale as on the Shape page, so that both can be compared; `spots` adds every one of them faintly."""
    each = [curve(f"spot {k}", shown.channel, "spot", level) for k, level in enumerate(shown.after_spots_db, start=1)]
    return response_plot(
        curves=[
            *(each if spots else []),
            curve("before", shown.channel, "before", shown.proof.before_db),
            curve("target", shown.channel, "target", shown.target_db),
            # The prediction lies as a broad dashed band under the measured line: where they agree, both are seen.
            curve("predicted", shown.channel, "predicted", shown.proof.predicted_db),
            curve("after", shown.channel, "after", shown.proof.after_db),
        ],
        top_db=TOP_DB,
        unit="dB",
    )


def latest_first(entries: Sequence[LogEntry]) -> list[LogGroup]:
    """Entries of the logbook, the latest first, with takes of one round in a row as one line."""
    return [*grouped(reversed(entries))][::-1]


LINES = {
    "response": "Response",
    "tilt": "Slope 200 Hz–10 kHz",
    "level": "Level between",
    "arrival": "Arrival between",
    "angles": "Direction",
    "decay": "Decay time",
    "noise": "Noise",
}


def tolerance_rows(view: ToleranceView) -> list[dict]:
    """Every figure in words: what, its value with its error, its bounds, and what follows. What fails comes first."""

    def with_unit(number: str, unit: str) -> str:
        return f"{number}{'' if unit == '°' else ' '}{unit}".replace("-", "−")

    order = {"fails": 0, "inconclusive": 1, "holds": 2}
    rows = []
    for judged in sorted(view.figures, key=lambda figure: order[figure.outcome]):
        digits = 2 if judged.unit in ("ms", "s", "dB per octave") else 0 if judged.unit == "NR" else 1
        value = (
            f"{judged.value:+.{digits}f}"
            if judged.line in ("response", "tilt", "angles")
            else f"{judged.value:.{digits}f}"
        )
        error = "not known" if judged.error == float("inf") else with_unit(f"±{judged.error:.{digits}f}", judged.unit)
        bounds = " to ".join(f"{bound:.{digits}f}" for bound in (judged.low, judged.high) if bound is not None)
        rows.append(
            {
                "line": LINES[judged.line],
                "subject": judged.subject if judged.subject != "room" else "",
                "outcome": judged.outcome,
                "value": with_unit(value, judged.unit),
                "error": error,
                "at": f" at {hertz(judged.at_hz)}" if judged.at_hz else "",
                "bounds": with_unit(f"{'' if judged.low is not None else 'up to '}{bounds}", judged.unit),
                "source": view.wanted.sources.get(judged.line, ""),
            }
        )
    return rows


def verdict_words(view: ProofView) -> str:
    """One or two plain sentences; what speaks against it comes first."""
    outcome = [_words(verdict) for verdict in view.against]
    if not outcome:
        outcome.append("The correction does what was predicted, and every channel is closer to the target.")
    if view.spots < view.spots_wanted:
        outcome.append(f"Compared at the {view.spots} of {view.spots_wanted} spots that both rounds have.")
    return " ".join(outcome)


def _words(verdict: Verdict) -> str:
    first, *others = verdict.channels
    match verdict.kind:
        case "prediction missed":
            return (
                f"{first} measures {verdict.value:.2f} dB away from its prediction, more than the "
                f"{verdict.within:.2f} dB of a microphone put back by hand: was anything moved or switched in between?"
            )
        case "no closer":
            return f"{first} is no closer to the target than before."
        case "levels differ":
            return (
                f"Levels still differ by {verdict.value:.1f} dB: {first} is loudest, {others[0]} softest; "
                f"{verdict.within:.1f} dB is what placing the microphone explains."
            )
        case "pair differs":
            return (
                f"{first} is {verdict.value:.1f} dB louder than {others[0]} in the 1/3 octave at "
                f"{hertz(verdict.at_hz or 0)}: "
                "correct it on Shape, or look at the loudspeaker."
            )
        case "arrivals differ":
            return (
                f"Arrivals still differ by {verdict.value * 1000:.2f} ms: {first} is last, {others[0]} first; "
                f"{verdict.within * 1000:.2f} ms is what placing the microphone explains."
            )
