"""Filters: their responses, and their impulse responses."""

from dolce.core.filters.bands import (
    BAND_KINDS,
    BandFilter,
    BandKind,
    chain_level_db,
    chain_samples,
    chain_sections,
    peaking_levels_db,
    peaking_with_slopes_db,
    playable,
    q_of_octaves,
    shelf_with_slopes_db,
)
from dolce.core.filters.biquad import Biquad, all_pass_biquad, peaking_biquad
from dolce.core.filters.convolution import convolution_filter
from dolce.core.filters.phases import before_main_db, linear_phase, minimum_phase, phase_compensated

__all__ = [
    "BAND_KINDS",
    "BandFilter",
    "BandKind",
    "Biquad",
    "all_pass_biquad",
    "before_main_db",
    "chain_level_db",
    "chain_samples",
    "chain_sections",
    "convolution_filter",
    "linear_phase",
    "minimum_phase",
    "peaking_biquad",
    "peaking_levels_db",
    "peaking_with_slopes_db",
    "phase_compensated",
    "playable",
    "q_of_octaves",
    "shelf_with_slopes_db",
]
