"""What of an output's settings differs between what a processor holds and what it would be told."""

from dataclasses import dataclass
from typing import Literal

from dolce.core.processor.settings import ChannelSettings

Part = Literal["trim", "delay", "polarity", "crossover", "bands", "convolution", "all-passes"]
_TRIM_DB, _DELAY_S = 0.005, 5e-7  # nearer than any device is set


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """One part of an output that differs, with both of its values; for bands also how many are not the same."""

    part: Part
    held: object
    wanted: object
    count: int = 0


def differences(held: ChannelSettings, wanted: ChannelSettings) -> tuple[Difference, ...]:
    """Part by part, in the order in which sound meets them; empty where both do the same."""
    found = []
    if abs(held.trim_db - wanted.trim_db) > _TRIM_DB:
        found.append(Difference(part="trim", held=held.trim_db, wanted=wanted.trim_db))
    if abs(held.delay_s - wanted.delay_s) > _DELAY_S:
        found.append(Difference(part="delay", held=held.delay_s, wanted=wanted.delay_s))
    if held.polarity != wanted.polarity:
        found.append(Difference(part="polarity", held=held.polarity, wanted=wanted.polarity))
    for side in ("high_pass", "low_pass"):
        if getattr(held, side) != getattr(wanted, side):
            found.append(Difference(part="crossover", held=getattr(held, side), wanted=getattr(wanted, side)))
    if held.filters != wanted.filters:
        other = set(held.filters) ^ set(wanted.filters)
        found.append(
            Difference(
                part="bands",
                held=len(held.filters),
                wanted=len(wanted.filters),
                count=max(sum(band in other for band in rows) for rows in (held.filters, wanted.filters)),
            )
        )
    if held.convolution != wanted.convolution:
        found.append(Difference(part="convolution", held=held.convolution, wanted=wanted.convolution))
    if held.all_pass != wanted.all_pass:
        found.append(Difference(part="all-passes", held=len(held.all_pass), wanted=len(wanted.all_pass)))
    return tuple(found)
