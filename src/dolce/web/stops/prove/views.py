"""Before, predicted and after as one plot, and tolerances in rows."""

from collections.abc import Sequence

import numpy as np

from dolce.core.error_budget import Source
from dolce.core.job import LogEntry, LogGroup, grouped
from dolce.core.tuning.channel_proof import ChannelProof, RoundBeside
from dolce.core.tuning.seats_proof import SEATS_HZ
from dolce.services.prove.budgets import Headline
from dolce.services.prove.tolerating import ToleranceView
from dolce.web.shared.plot_data import ORDER_COLOURS, TO_CORRECT_DB, curve, response_plot, seats_plot
from dolce.words.numbers import hertz

_LOWEST_DB = -30.0  # what a small loudspeaker does at 20 Hz need not flatten the picture


def proof_plot(shown: ChannelProof, *, spots: bool = False, beside: Sequence[RoundBeside] = ()) -> dict:
    """The same scale as on the Shape page, so that both can be compared.

    `spots` adds every one of them faintly, `beside` are other rounds.
    """
    each = [curve(f"spot {k}", shown.channel, "spot", level) for k, level in enumerate(shown.after_spots_db, start=1)]
    colours = [colour for colour in ORDER_COLOURS if colour != shown.channel]
    return response_plot(
        curves=[
            *(each if spots else []),
            *(
                curve(one.round.name, shown.channel, f"beside line-{(k + 1) % 4}", one.level_db)
                | {"channel": colours[k % len(colours)]}
                for k, one in enumerate(beside)
            ),
            curve("before", shown.channel, "before", shown.proof.before_db),
            curve("target", shown.channel, "target", shown.target_db),
            # The prediction lies as a broad dashed band under the measured line: where they agree, both are seen.
            curve("predicted", shown.channel, "predicted", shown.proof.predicted_db),
            curve("after", shown.channel, "after", shown.proof.after_db),
        ],
        range_db=TO_CORRECT_DB,
        unit="dB",
    )


def bass_at_seats_plot(shown: ChannelProof) -> dict | None:
    """The bass of every seat, measured; faintly as it was before. None for one seat alone."""
    seats = shown.seats
    if seats is None:
        return None
    return seats_plot(SEATS_HZ, seats.seats, seats.after_db, np.maximum(seats.before_db, _LOWEST_DB), before="before")


def latest_first(entries: Sequence[LogEntry]) -> list[LogGroup]:
    """Entries of the logbook, the latest first, with takes of one round in a row as one line."""
    return [*grouped(reversed(entries))][::-1]


LINES = {
    "response": "Response",
    "tilt": "Slope 200 Hz–10 kHz",
    "seats": "Seat-to-seat variation",
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

    about_target = "response" if view.wanted.about == "target" else ""
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
                "line": LINES[judged.line] + (" about its target" if judged.line == about_target else ""),
                "subject": judged.subject if judged.subject != "room" else "",
                "outcome": judged.outcome,
                "value": with_unit(value, judged.unit),
                "error": error,
                "at": f" at {hertz(judged.at_hz)}" if judged.at_hz else "",
                "bounds": with_unit(f"{'' if judged.low is not None else 'up to '}{bounds}", judged.unit),
                "source": view.wanted.sources.get(judged.line, "own"),
            }
        )
    return rows


_HEADLINES = {"deviation": "Deviation", "level": "Level between", "arrival": "Arrival between"}
_HELPS: dict[Source, str] = {
    "spots": "more spots",
    "placement": "more spots, or a stand that is put back more exactly",
    "microphone": "a microphone whose curve is known better",
    "temperature": "a round at the temperature that is typed on Room",
    "rounding": "a processor of finer steps",
}


def budget_rows(headlines: Sequence[Headline]) -> list[dict]:
    """Every headline in words: its value, its interval, what each source leaves, and the one that leaves most."""
    rows = []
    for headline in headlines:
        scale, unit = (1000.0, "ms") if headline.kind == "arrival" else (1.0, "dB")

        def told(value: float, sign: str = "", scale: float = scale, unit: str = unit) -> str:
            return "not known" if value == float("inf") else f"{sign}{scale * value:.2f} {unit}"

        parts = {part.source: part for part in headline.budget.parts}
        rows.append(
            {
                "line": _HEADLINES[headline.kind],
                "subject": " and ".join(headline.channels),
                "value": told(headline.value),
                "total": told(headline.budget.total, "±"),
                "parts": [
                    (source, "cancels" if parts[source].cancels else told(parts[source].value)) for source in _HELPS
                ],
                "most": headline.budget.dominant,
                "helps": "nothing: how a sub differs from spot to spot is not told"
                if headline.spots > 1 and parts["spots"].value == float("inf")
                else "; ".join(_HELPS[source] for source in headline.budget.dominant),
                "spots": headline.spots,
            }
        )
    return rows
