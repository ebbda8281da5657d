"""Signal processing that knows no loudspeakers: bands, decibels, fades, smoothing, phases, peaks, delays."""

from dolce.core.dsp.analog_sections import CrossoverKind, all_pass_response, crossover_sides
from dolce.core.dsp.bands import OCTAVE_RATIO, band_edges, in_band, mid_bands
from dolce.core.dsp.decibels import dbfs_rms, energy_mean_db, energy_sum_db, peak_dbfs, power_db, together_db
from dolce.core.dsp.delays import delay_response, delayed
from dolce.core.dsp.fades import fade_in, fade_out, faded, raised_cosine
from dolce.core.dsp.minimum_phase import minimum_phase_rad, minimum_phase_spectrum
from dolce.core.dsp.peaks import vertex
from dolce.core.dsp.smoothing import octave_mean, smoothed_db, smoothed_power
from dolce.core.dsp.third_octaves import third_octaves_of

__all__ = [
    "OCTAVE_RATIO",
    "CrossoverKind",
    "all_pass_response",
    "band_edges",
    "crossover_sides",
    "dbfs_rms",
    "delay_response",
    "delayed",
    "energy_mean_db",
    "energy_sum_db",
    "fade_in",
    "fade_out",
    "faded",
    "in_band",
    "mid_bands",
    "minimum_phase_rad",
    "minimum_phase_spectrum",
    "octave_mean",
    "peak_dbfs",
    "power_db",
    "raised_cosine",
    "smoothed_db",
    "smoothed_power",
    "third_octaves_of",
    "together_db",
    "vertex",
]
