"""Several subs as one: what they do together at every seat, and the settings that serve all seats."""

from dolce.core.subs.cost import Found, SearchLimits, found_at
from dolce.core.subs.crossover import GroupSetting, Join, best_of, crossover_sides
from dolce.core.subs.field import BAND_HZ, BassField, SubSetting, all_pass_response, neutral, smoothing, spectrum_at
from dolce.core.subs.group import SUBS, SubGroup, by_distance
from dolce.core.subs.search import search, search_with_front

__all__ = [
    "BAND_HZ",
    "SUBS",
    "BassField",
    "Found",
    "GroupSetting",
    "Join",
    "SearchLimits",
    "SubGroup",
    "SubSetting",
    "all_pass_response",
    "best_of",
    "by_distance",
    "crossover_sides",
    "found_at",
    "neutral",
    "search",
    "search_with_front",
    "smoothing",
    "spectrum_at",
]
