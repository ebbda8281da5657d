"""Several subs as one: what they do together at every seat, and the settings that serve all seats."""

from dolce.core.subs.field import (
    BAND_HZ,
    BassField,
    SubSetting,
    all_pass_response,
    neutral,
    smoothing,
    spectrum_at,
)
from dolce.core.subs.join import GroupSetting, Join, crossover_sides
from dolce.core.subs.search import Found, SearchLimits, found_at, search

__all__ = ["BAND_HZ", "BassField", "Found", "GroupSetting", "Join", "SearchLimits", "SubSetting", "all_pass_response",
           "crossover_sides", "found_at", "neutral", "search", "smoothing", "spectrum_at"]
