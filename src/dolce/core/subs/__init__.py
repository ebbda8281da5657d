"""Several subs as one: what they do together at every seat, and the settings that serve all seats."""

from dolce.core.subs.cost import Found, SearchLimits, found_at
from dolce.core.subs.crossover import (
    CROSSOVER_OCTAVES,
    GroupSetting,
    SummationLoss,
    best_of,
    crossover_region,
    summation_loss_at,
)
from dolce.core.subs.field import BAND_HZ, BassField, SubSetting, neutral, smoothing, spectrum_at
from dolce.core.subs.group import SUBS, SubGroup, by_distance
from dolce.core.subs.search import search, search_with_front
from dolce.core.subs.state import SubState, same_as_shown, state_of, state_of_levels

__all__ = [
    "BAND_HZ",
    "CROSSOVER_OCTAVES",
    "SUBS",
    "BassField",
    "Found",
    "GroupSetting",
    "SearchLimits",
    "SubGroup",
    "SubSetting",
    "SubState",
    "SummationLoss",
    "best_of",
    "by_distance",
    "crossover_region",
    "found_at",
    "neutral",
    "same_as_shown",
    "search",
    "search_with_front",
    "smoothing",
    "spectrum_at",
    "state_of",
    "state_of_levels",
    "summation_loss_at",
]
