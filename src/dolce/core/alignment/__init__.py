"""Levels and delays that make channels match at a seat."""

from dolce.core.alignment.ladder import (
    LEVEL_BAND_HZ,
    TRIM_STEP_DB,
    ArrivalLadder,
    ChannelReading,
    Rung,
    arrival_ladder,
    mid_level_db,
)

__all__ = ["LEVEL_BAND_HZ", "TRIM_STEP_DB", "ArrivalLadder", "ChannelReading", "Rung", "arrival_ladder", "mid_level_db"]
