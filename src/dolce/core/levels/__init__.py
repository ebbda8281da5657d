"""Levels of bands, weightings and meters."""

from dolce.core.levels.band_levels import NOMINAL_HZ, band_filter_db, band_filters, band_levels_db, exact_mid_hz
from dolce.core.levels.comparing import Apart, apart, pink_in_bands_db
from dolce.core.levels.level_bands import LEVEL_BAND_HZ, SUB_LEVEL_BAND_HZ
from dolce.core.levels.level_check import LevelReading, level_reading
from dolce.core.levels.live_meter import CLIPS_AT, MEANING_TIMES_S, LiveMeter, LiveReading
from dolce.core.levels.live_spectrum import PER_OCTAVE, LiveSpectrum, band_power_db
from dolce.core.levels.noise_rating import noise_rating, rating_curve_db
from dolce.core.levels.sound_level import MeterReading, SoundLevelMeter
from dolce.core.levels.weighting import WEIGHTINGS, Weighting, weighting_db, weighting_sections

__all__ = [
    "CLIPS_AT",
    "LEVEL_BAND_HZ",
    "MEANING_TIMES_S",
    "NOMINAL_HZ",
    "PER_OCTAVE",
    "SUB_LEVEL_BAND_HZ",
    "WEIGHTINGS",
    "Apart",
    "LevelReading",
    "LiveMeter",
    "LiveReading",
    "LiveSpectrum",
    "MeterReading",
    "SoundLevelMeter",
    "Weighting",
    "apart",
    "band_filter_db",
    "band_filters",
    "band_levels_db",
    "band_power_db",
    "exact_mid_hz",
    "level_reading",
    "noise_rating",
    "pink_in_bands_db",
    "rating_curve_db",
    "weighting_db",
    "weighting_sections",
]
