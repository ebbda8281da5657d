"""Filters: their responses, and their impulse responses."""

from dolce.core.filters.biquad import Biquad, peaking_biquad
from dolce.core.filters.convolution import convolution_filter
from dolce.core.filters.peaking import (
    PeakingFilter,
    chain_level_db,
    chain_samples,
    peaking_levels_db,
    peaking_slopes_db,
    playable,
    q_of_octaves,
)

__all__ = ["Biquad", "PeakingFilter", "chain_level_db", "chain_samples", "convolution_filter",
           "peaking_biquad", "peaking_levels_db", "peaking_slopes_db", "playable", "q_of_octaves"]
