"""Two values that say what a processor gets, alignment and correction, and what follows from them."""

from dolce.core.tuning.alignment import Alignment, ChannelAlignment, OutputChange, changed_outputs
from dolce.core.tuning.bass_sums import (
    JOINED_OCTAVES,
    SHOWN_HZ,
    SUM_HZ,
    Handover,
    group_levels_db,
    handover,
    joins_of,
    route_response,
    ways_of,
    with_phases,
)
from dolce.core.tuning.blend import ALL_SEATS, Blend, blends_of
from dolce.core.tuning.clean_level import (
    OCTAVES_HZ,
    PEAKS_ABOVE_DB,
    CleanBand,
    PlayedOnce,
    clean_bands,
    needed_levels_db,
    typed_levels,
)
from dolce.core.tuning.composing import mains_later_s, with_ladder
from dolce.core.tuning.correction import ANCHOR_RANGE_HZ, Aim, Band, Correction
from dolce.core.tuning.drift import Drift, arrivals_apart, drift_of
from dolce.core.tuning.levelling import levelled_again
from dolce.core.tuning.output_loads import OutputLoad, output_loads
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import Responses, level_of, predict, response_of, settings_of, taps_of
from dolce.core.tuning.proof import Proof, SpotLevels, Verdict, prove, verdicts_on
from dolce.core.tuning.rounds import spot_deviations_db
from dolce.core.tuning.shape import (
    HEARD_TO_HZ,
    SHAPING_PER_OCTAVE,
    ChannelShape,
    FoundFilters,
    Heard,
    convolved_db,
    expectation_of,
    found_filters,
    fronts_level_db,
    shape_of,
    target_level_db,
    wanted_levels_db,
    wanted_rise_db,
)
from dolce.core.tuning.steps import delay_step_s, on_step, trim_step_db

__all__ = [
    "ALL_SEATS",
    "ANCHOR_RANGE_HZ",
    "HEARD_TO_HZ",
    "JOINED_OCTAVES",
    "OCTAVES_HZ",
    "PEAKS_ABOVE_DB",
    "SHAPING_PER_OCTAVE",
    "SHOWN_HZ",
    "SUM_HZ",
    "Aim",
    "Alignment",
    "Band",
    "Blend",
    "ChannelAlignment",
    "ChannelShape",
    "CleanBand",
    "Correction",
    "Drift",
    "FoundFilters",
    "Handover",
    "Heard",
    "OutputChange",
    "OutputLoad",
    "Outputs",
    "PlayedOnce",
    "Proof",
    "Responses",
    "SpotLevels",
    "Verdict",
    "arrivals_apart",
    "blends_of",
    "changed_outputs",
    "clean_bands",
    "convolved_db",
    "delay_step_s",
    "drift_of",
    "expectation_of",
    "found_filters",
    "fronts_level_db",
    "group_levels_db",
    "handover",
    "joins_of",
    "level_of",
    "levelled_again",
    "mains_later_s",
    "needed_levels_db",
    "on_step",
    "output_loads",
    "predict",
    "prove",
    "response_of",
    "route_response",
    "settings_of",
    "shape_of",
    "spot_deviations_db",
    "taps_of",
    "target_level_db",
    "trim_step_db",
    "typed_levels",
    "verdicts_on",
    "wanted_levels_db",
    "wanted_rise_db",
    "ways_of",
    "with_ladder",
    "with_phases",
]
