"""Two values that say what a processor gets, alignment and correction, and what follows from them."""

from dolce.core.tuning.alignment import Alignment, ChannelAlignment
from dolce.core.tuning.blend import ALL_SEATS, Blend, blends_of
from dolce.core.tuning.correction import ANCHOR_RANGE_HZ, Band, Correction
from dolce.core.tuning.levelling import levelled_again
from dolce.core.tuning.prediction import Responses, level_of, predict, response_of, settings_of
from dolce.core.tuning.proof import Proof, SpotLevels, Verdict, prove, verdicts_on

__all__ = ["ALL_SEATS", "ANCHOR_RANGE_HZ", "Alignment", "Band", "Blend", "ChannelAlignment", "Correction", "Proof",
           "Responses", "SpotLevels", "Verdict", "blends_of", "level_of", "levelled_again", "predict", "prove",
           "response_of",
           "settings_of", "verdicts_on"]
