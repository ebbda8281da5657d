"""Decibels, bands, weightings and meters."""

from dolce.core.levels.band_levels import NOMINAL_HZ, band_filter_db, band_filters, band_levels_db, exact_mid_hz
from dolce.core.levels.bands import LEVEL_BAND_HZ, SUB_LEVEL_BAND_HZ, band_edges, mid_bands
from dolce.core.levels.decibel import dbfs_rms, energy_mean_db, energy_sum_db, peak_dbfs, power_db, together_db
from dolce.core.levels.level_check import LevelReading, level_reading
from dolce.core.levels.live_meter import CLIPS_AT, MEANING_TIMES_S, LiveMeter, LiveReading
from dolce.core.levels.live_spectrum import PER_OCTAVE, LiveSpectrum, band_power_db
from dolce.core.levels.noise_rating import noise_rating, rating_curve_db
from dolce.core.levels.sound_level import MeterReading, SoundLevelMeter
from dolce.core.levels.third_octaves import third_octaves_of
from dolce.core.levels.weighting import WEIGHTINGS, Weighting, weighting_db, weighting_sections

__all__ = [
    "CLIPS_AT",
    "LEVEL_BAND_HZ",
    "MEANING_TIMES_S",
    "NOMINAL_HZ",
    "PER_OCTAVE",
    "SUB_LEVEL_BAND_HZ",
    "WEIGHTINGS",
    "LevelReading",
    "LiveMeter",
    "LiveReading",
    "LiveSpectrum",
    "MeterReading",
    "SoundLevelMeter",
    "Weighting",
    "band_edges",
    "band_filter_db",
    "band_filters",
    "band_levels_db",
    "band_power_db",
    "dbfs_rms",
    "energy_mean_db",
    "energy_sum_db",
    "exact_mid_hz",
    "level_reading",
    "mid_bands",
    "noise_rating",
    "peak_dbfs",
    "power_db",
    "rating_curve_db",
    "third_octaves_of",
    "together_db",
    "weighting_db",
    "weighting_sections",
]
