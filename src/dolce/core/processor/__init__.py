"""What a processor is told, what it can hold, and what it does with sound."""

from dolce.core.processor.limits import REHEARSAL_LIMITS, ProcessorLimits
from dolce.core.processor.settings import (
    BYPASS,
    DIM_DB,
    BassManagement,
    ChannelSettings,
    Convolution,
    Crossover,
    Preset,
    ProcessorState,
    processed,
)

__all__ = ["BYPASS", "DIM_DB", "REHEARSAL_LIMITS", "BassManagement", "ChannelSettings", "Convolution", "Crossover",
           "Preset", "ProcessorLimits", "ProcessorState", "processed"]
