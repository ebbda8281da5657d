"""The sub workbench: curves of all seats, figures of every state, the trade between evenness and output."""

from dataclasses import dataclass
from functools import partial

import numpy as np

from dolce.core.subs import SubState
from dolce.core.tuning import BassPlayer, BassRequest, FoundBass
from dolce.services.align.common_bass import BassResult
from dolce.services.align.sub_workbench import WorkbenchView
from dolce.web.shared.plot_data import seats_plot
from dolce.words.common_bass import budget_words, doubt_words, limit_words
from dolce.words.numbers import plain

_NAMES = {
    "as-they-are": "Unchanged",
    "distances": "By distance",
    "search": "Optimised",
    "used": "In use",
    "by-hand": "By hand",
}
_FRONT_W, _FRONT_H, _EDGE = 250.0, 118.0, 22.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ParetoPoint:
    """One compromise as a dot; `x` and `y` in units of the drawing."""

    code: str
    x: float
    y: float
    output_db: float
    deviation_db: float


def workbench_page(view: WorkbenchView) -> dict:
    """What the templates of the workbench show."""
    shown = view.states.get(view.shown)
    return {
        "bench": view,
        "state": shown,
        "state_name": partial(state_name, view),
        "plot": seat_plot(view, shown) if shown else None,
        "rows": [
            (code, state) for code, state in view.states.items() if not code.startswith("trade-") or state is shown
        ],
        "pareto_front": pareto_points(view),
        "shared": shared_in_front(view),
        "bass_request": view.common.request if view.common is not None else BassRequest(),
        "trade_size": (_FRONT_W, _FRONT_H),
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class SharedInFront:
    """The common bass that is looked at: filters as found or in use, who plays it, and what was left out."""

    found: FoundBass
    players: tuple[BassPlayer, ...]
    result: BassResult | None

    @property
    def doubts(self) -> list[str]:
        """What is not known, and what limits it."""
        found = self.found
        return [
            *doubt_words(found.expected, found.nodes, {}),
            *limit_words(found.filters, found.given, max_loss_db=found.request.max_loss_db, spots_at=found.spots_at),
        ]

    @property
    def budget(self) -> str:
        """What errors of life do."""
        return budget_words(self.found.budget) if self.found.budget is not None else ""


def shared_in_front(view: WorkbenchView) -> SharedInFront | None:
    """None where other settings of the subs are looked at."""
    at_seats = view.at_seats.get(view.shown)
    if at_seats is None:
        return None
    result = view.common.results.get(view.shown.removeprefix("shared-")) if view.common is not None else None
    alignment = result.alignment if result is not None else view.kept.get(view.shown)
    found = alignment.common_bass if alignment is not None else view.common_used
    return None if found is None else SharedInFront(found=found, players=at_seats.players, result=result)


def state_name(view: WorkbenchView, code: str) -> str:
    """What a state is called."""
    if code.startswith("alone-"):
        return f"{code.removeprefix('alone-')} alone"
    if code in view.kept:
        return f"{view.kept[code].name}, saved"
    results = view.common.results if view.common is not None else {}
    result = results.get(code.removeprefix("shared-"))
    if result is not None and result.alignment.common_bass is not None:
        return _asked_words(result.alignment.common_bass.request)
    if code == "used" and view.common_used is not None:
        return f"In use: {_asked_words(view.common_used.request).lower()}"
    return "Another compromise" if code.startswith("trade-") else _NAMES[code]


def _asked_words(asked: BassRequest) -> str:
    """Who plays the common bass, and what was asked of it."""
    who = "Shared by all" if asked.play == "all" else "Subs with filters"
    return f"{who}, {plain(asked.max_loss_db)} dB, {plain(1000 * asked.latency_s)} ms, {plain(asked.hand_over_hz)} Hz"


def seat_plot(view: WorkbenchView, state: SubState) -> dict:
    """Every seat's curve with a state, and where the subs are as they are faintly behind."""
    before = view.states["as-they-are"]
    behind = None if state is before else before.by_seat_db
    return seats_plot(view.frequency_hz, view.seats, state.by_seat_db, behind, before="unchanged")


def pareto_points(view: WorkbenchView) -> list[ParetoPoint]:
    """Evenness against output; to the right is louder, up is more even."""
    if len(view.pareto_front) < 2:
        return []
    output, uneven = (np.array([point[k] for point in view.pareto_front]) for k in (0, 1))

    def place(values: np.ndarray, length: float) -> np.ndarray:
        span = max(float(np.ptp(values)), 0.2)
        return _EDGE + (values - values.min()) / span * (length - 2 * _EDGE)

    xs, ys = place(output, _FRONT_W), place(uneven, _FRONT_H)
    return [
        ParetoPoint(code=code, x=float(x), y=float(y), output_db=out, deviation_db=uneven)
        for (out, uneven, code), x, y in zip(view.pareto_front, xs, ys, strict=True)
    ]
