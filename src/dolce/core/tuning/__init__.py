"""Two values that say what a processor gets, alignment and correction, and what follows from them."""

from dolce.core.tuning.alignment import Alignment, ChannelAlignment
from dolce.core.tuning.blend import ALL_SEATS, Blend, blends_of
from dolce.core.tuning.correction import ANCHOR_RANGE_HZ, Band, Correction
from dolce.core.tuning.levelling import levelled_again
from dolce.core.tuning.prediction import Responses, level_of, predict, response_of, settings_of
from dolce.core.tuning.proof import Proof, SpotLevels, Verdict, prove, verdicts_on
from dolce.core.tuning.shape import (
           SHAPING_PER_OCTAVE,
           ChannelShape,
           found_bands,
           shape_of,
           target_level_db,
           wanted_rise_db,
)

__all__ = [
           "ALL_SEATS",
           "ANCHOR_RANGE_HZ",
           "SHAPING_PER_OCTAVE",
           "Alignment",
           "Band",
           "Blend",
           "ChannelAlignment",
           "ChannelShape",
           "Correction",
           "Proof",
           "Responses",
           "SpotLevels",
           "Verdict",
           "blends_of",
           "found_bands",
           "level_of",
           "levelled_again",
           "predict",
           "prove",
           "response_of",
           "settings_of",
           "shape_of",
           "target_level_db",
           "verdicts_on",
    "wanted_rise_db",
]
