"""Decibels and frequency bands."""

from dolce.core.levels.bands import band_edges, mid_bands
from dolce.core.levels.decibel import dbfs_rms, energy_mean_db, energy_sum_db, peak_dbfs, power_db
from dolce.core.levels.level_check import LevelReading, level_reading

__all__ = ["LevelReading", "band_edges", "dbfs_rms", "energy_mean_db", "energy_sum_db", "level_reading", "mid_bands",
           "peak_dbfs", "power_db"]
