"""What processors are told, what they can hold, and what they do with sound."""

from dolce.core.processor.bass_management import BASS, EFFECTS, BassManagement, CommonBass, Effects, Route
from dolce.core.processor.chain import (
    REHEARSAL_PROCESSOR,
    SAID_PROCESSOR,
    ProcessorInUse,
    checked_chain,
    with_loaded,
    with_other,
    without_other,
)
from dolce.core.processor.crossover import Crossover
from dolce.core.processor.difference import Difference, differences
from dolce.core.processor.fitting import Rounded, fitted
from dolce.core.processor.limits import REHEARSAL_LIMITS, Capabilities, ProcessorLimits
from dolce.core.processor.preset import Preset
from dolce.core.processor.settings import AllPass, ChannelSettings, Convolution
from dolce.core.processor.sound import processed
from dolce.core.processor.state import BYPASS, DIM_DB, ProcessorState
from dolce.core.processor.unsupported import UnsupportedSetting

__all__ = [
    "BASS",
    "BYPASS",
    "DIM_DB",
    "EFFECTS",
    "REHEARSAL_LIMITS",
    "REHEARSAL_PROCESSOR",
    "SAID_PROCESSOR",
    "AllPass",
    "BassManagement",
    "Capabilities",
    "ChannelSettings",
    "CommonBass",
    "Convolution",
    "Crossover",
    "Difference",
    "Effects",
    "Preset",
    "ProcessorInUse",
    "ProcessorLimits",
    "ProcessorState",
    "Rounded",
    "Route",
    "UnsupportedSetting",
    "checked_chain",
    "differences",
    "fitted",
    "processed",
    "with_loaded",
    "with_other",
    "without_other",
]
