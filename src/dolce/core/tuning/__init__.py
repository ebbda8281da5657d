"""Two values that say what a processor gets, alignment and correction, and what follows from them."""

from dolce.core.tuning.alignment import Alignment, ChannelAlignment, OutputChange, changed_outputs
from dolce.core.tuning.bass_sums import (
    SHOWN_HZ,
    SUM_HZ,
    CrossoverSum,
    crossover_sum,
    group_levels_db,
    route_response,
    signal_paths_of,
    summation_losses_of,
    with_phases,
)
from dolce.core.tuning.change_since import ChangeSince, arrivals_apart, change_of
from dolce.core.tuning.composing import main_channels_later_s, with_table
from dolce.core.tuning.correction import ANCHOR_RANGE_HZ, SUB_RANGE_HZ, Band, Correction, CorrectionSettings
from dolce.core.tuning.crossings import GroupCrossover, Protection, group_crossovers, large_losses, protections, sums_at_seats
from dolce.core.tuning.subs_against_main_channels import subs_against_main_channels
from dolce.core.tuning.levelling import levelled_again
from dolce.core.tuning.maximum_level import (
    OCTAVES_HZ,
    PEAKS_ABOVE_DB,
    MaximumLevelBand,
    PlayedOnce,
    maximum_level_bands,
    needed_levels_db,
    typed_levels,
)
from dolce.core.tuning.output_loads import OutputLoad, headroom_cut_db, output_loads, seat_levels_db
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import Responses, level_of, predict, response_of, settings_of, taps_of
from dolce.core.tuning.proof import Proof, SpotLevels, Verdict, prove, verdicts_on
from dolce.core.tuning.region_evidence import RegionEvidence, evidence_of
from dolce.core.tuning.rounds import spot_deviations_db
from dolce.core.tuning.seat_weighting import (
    ALL_SEATS,
    SeatWeighting,
    level_weights,
    main_seat_weights,
    seat_weightings_of,
    spot_weights,
    usual_seat_weighting,
)
from dolce.core.tuning.shape import (
    AUDIBLE_TO_HZ,
    SHAPING_PER_OCTAVE,
    ChannelShape,
    FoundFilters,
    SeatResponses,
    convolved_db,
    expectation_of,
    found_filters,
    fronts_level_db,
    judged_range_hz,
    shape_of,
    target_level_db,
    wanted_levels_db,
    wanted_rise_db,
)
from dolce.core.tuning.steps import delay_step_s, on_step, trim_step_db

__all__ = [
    "GroupCrossover", "Protection", "group_crossovers", "large_losses", "protections", "sums_at_seats", "subs_against_main_channels",
    "ALL_SEATS",
    "ANCHOR_RANGE_HZ",
    "AUDIBLE_TO_HZ",
    "OCTAVES_HZ",
    "PEAKS_ABOVE_DB",
    "SHAPING_PER_OCTAVE",
    "SHOWN_HZ",
    "SUB_RANGE_HZ",
    "SUM_HZ",
    "Alignment",
    "Band",
    "ChangeSince",
    "ChannelAlignment",
    "ChannelShape",
    "Correction",
    "CorrectionSettings",
    "CrossoverSum",
    "FoundFilters",
    "MaximumLevelBand",
    "OutputChange",
    "OutputLoad",
    "Outputs",
    "PlayedOnce",
    "Proof",
    "RegionEvidence",
    "Responses",
    "SeatResponses",
    "SeatWeighting",
    "SpotLevels",
    "Verdict",
    "arrivals_apart",
    "change_of",
    "changed_outputs",
    "convolved_db",
    "crossover_sum",
    "delay_step_s",
    "evidence_of",
    "expectation_of",
    "found_filters",
    "fronts_level_db",
    "group_levels_db",
    "headroom_cut_db",
    "judged_range_hz",
    "level_of",
    "level_weights",
    "levelled_again",
    "main_channels_later_s",
    "main_seat_weights",
    "maximum_level_bands",
    "needed_levels_db",
    "on_step",
    "output_loads",
    "predict",
    "prove",
    "response_of",
    "route_response",
    "seat_levels_db",
    "seat_weightings_of",
    "settings_of",
    "shape_of",
    "signal_paths_of",
    "spot_deviations_db",
    "spot_weights",
    "summation_losses_of",
    "taps_of",
    "target_level_db",
    "trim_step_db",
    "typed_levels",
    "usual_seat_weighting",
    "verdicts_on",
    "wanted_levels_db",
    "wanted_rise_db",
    "with_phases",
    "with_table",
]
