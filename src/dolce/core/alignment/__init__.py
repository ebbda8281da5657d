"""Levels and delays that make channels match at a seat."""

from dolce.core.alignment.ladder import (
    TRIM_STEP_DB,
    ArrivalLadder,
    ChannelReading,
    Match,
    Rung,
    arrival_ladder,
    level_band_hz,
    match_of,
    mid_level_db,
    with_subs_by_plan,
)
from dolce.core.alignment.polarity import common_polarity

__all__ = [
    "TRIM_STEP_DB",
    "ArrivalLadder",
    "ChannelReading",
    "Match",
    "Rung",
    "arrival_ladder",
    "common_polarity",
    "level_band_hz",
    "match_of",
    "mid_level_db",
    "with_subs_by_plan",
]
