"""Levels, delays and polarity that make channels match at a seat."""

from dolce.core.alignment.against_plan import OffPlan, beyond_possible_s, off_plan
from dolce.core.alignment.against_prediction import ChannelKept, against_prediction
from dolce.core.alignment.level_match import PAIR_DB, PairDifference, matched_levels_db, pair_differences
from dolce.core.alignment.polarity import JudgedPolarity, alike, common_polarity, direct_spectrum, judged_together
from dolce.core.alignment.seat_arrival import SeatArrivals, seat_arrivals
from dolce.core.alignment.table import (
    TRIM_STEP_DB,
    AlignmentRow,
    AlignmentTable,
    ChannelReading,
    LevelOptions,
    Match,
    level_band_hz,
    match_of,
    mid_level_db,
    table_of_arrivals,
    with_subs_by_plan,
)
from dolce.core.alignment.twins import TWIN_HZ, Twins, together, twins

__all__ = [
    "PAIR_DB",
    "TRIM_STEP_DB",
    "TWIN_HZ",
    "AlignmentRow",
    "AlignmentTable",
    "ChannelKept",
    "ChannelReading",
    "JudgedPolarity",
    "LevelOptions",
    "Match",
    "OffPlan",
    "PairDifference",
    "SeatArrivals",
    "Twins",
    "against_prediction",
    "alike",
    "beyond_possible_s",
    "common_polarity",
    "direct_spectrum",
    "judged_together",
    "level_band_hz",
    "match_of",
    "matched_levels_db",
    "mid_level_db",
    "off_plan",
    "pair_differences",
    "seat_arrivals",
    "table_of_arrivals",
    "together",
    "twins",
    "with_subs_by_plan",
]
