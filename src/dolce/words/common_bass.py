"""What limits filters of the common bass, and what may go wrong with them, in words."""

from collections.abc import Mapping, Sequence

from dolce.core.bass import BassFigures, BassFilters, ErrorBudget, ExpectedBass, PressureNode
from dolce.words.numbers import hertz

_AT_LIMIT_DB, _LOST_DB, _MATTERS_DB = 0.3, 0.1, 0.3
_FEW_SPOTS = 3


def limit_words(
    filters: BassFilters, given: BassFigures, *, max_loss_db: float, spots_at: Mapping[str, int]
) -> list[str]:
    """What keeps filters from doing better; `spots_at` are the spots of each seat by its name."""
    found = []
    full = [row.output for row in filters.filters if row.highest_gain_db > -_AT_LIMIT_DB]
    if given.output_db < -max_loss_db - _LOST_DB:
        found.append(
            f"No filters keep {-max_loss_db:g} dB of output within their limits; these have {given.output_db:.1f} dB."
        )
    if full:
        found.append(f"At their highest gain somewhere: {', '.join(full[:8])}. Driving subs harder leaves more room.")
    few = [seat for seat, count in spots_at.items() if count < _FEW_SPOTS]
    if few:
        found.append(
            f"Fewer than {_FEW_SPOTS} spots at {', '.join(few[:6])}: take one more there, opposite the others as seen "
            "from the seat's middle."
        )
    return found


def doubt_words(expected: ExpectedBass | None, nodes: Sequence[PressureNode], names: Mapping[str, str]) -> list[str]:
    """What is not known, and seats around a pressure node; `names` of seats by what nodes call them."""
    found = []
    if expected is None:
        found.append(
            "No seat has two spots: nothing is known of spots that were not taken. Take one more at each seat."
        )
    for node in nodes:
        seat, other = (names.get(name, name) for name in (node.seat, node.other))
        found.append(
            f"Around {hertz(node.at_hz)} {seat} and {other} lie either side of a pressure node: between them there is "
            "little bass. Take one more spot of each on the side of the other."
            if node.other
            else f"Around {hertz(node.at_hz)} the bass changes sign within {seat}: between its spots there is little "
            "bass. Take a spot in the middle of the others, or move the seat."
        )
    return found


def budget_words(budget: ErrorBudget) -> str:
    """What errors of life do to the variation."""
    worst = max(budget.louder_db, key=lambda name: budget.louder_db[name])
    words = (
        f"With {worst} 1 dB louder the variation is {budget.louder_db[worst]:.2f} dB, with air 3 °C warmer "
        f"{budget.warmer_db:.2f} dB, instead of {budget.as_found_db:.2f} dB."
    )
    most = max(budget.louder_db[worst], budget.warmer_db) - budget.as_found_db
    return f"{words} Match levels again before you rely on it." if most > _MATTERS_DB else words
